import { Button, Group, Input, List, MultiSelect, Select, SimpleGrid, Stack, Table, Text } from '@mantine/core';
import type { DoubledKeysInfo, SetDesignInfo } from '../../api/client';
import type { Change } from '../../api/design';
import { findDoubled, findKeys } from '../../api/proofs';
import { useProgress } from '../../api/useProgress';
import { Running } from '../../components/Running';
import { CommitInput } from './CommitInput';
import { QuickCheckbox } from './QuickCheckbox';
import { listAt, numberOf, textAt } from './words';

interface SetFormProps {
  set: SetDesignInfo;
  isEditable: boolean;
  change: (...changes: Change[]) => void;
}

const operations = ['read', 'create', 'update', 'delete'];

/** A set's name, key, operations and pages. */
export function SetForm({ set, isEditable, change }: SetFormProps) {
  const put = (word: string, value: unknown) => change({ set: set.index, path: [word], value });
  const text = (word: string, label: string, placeholder = '') => (
    <CommitInput
      label={label}
      placeholder={placeholder}
      value={textAt(set.written, word)}
      disabled={!isEditable}
      commit={(value) => put(word, value === placeholder ? undefined : numberOf(value) || undefined)}
    />
  );
  const columns = set.columns.map((column) => column.column);
  return (
    <Stack gap="sm" maw={760}>
      <SimpleGrid cols={{ base: 1, sm: 2 }} spacing="sm" verticalSpacing="xs">
        {text('name', 'Public name', set.ownName)}
        {text('type', 'Name of its type', set.ownType)}
      </SimpleGrid>
      {text('description', 'Description', set.comment)}
      <KeyForm set={set} isEditable={isEditable} change={change} />
      <Input.Wrapper
        size="xs"
        label="Allowed operations"
        labelElement="div"
        description="What anybody at all can do; the rules say who."
      >
        <Group gap="md" mt={6} role="group" aria-label="Allowed operations">
          {operations.map((operation) => (
            <QuickCheckbox
              key={operation}
              label={operation}
              checked={set.allow.includes(operation)}
              disabled={!isEditable}
              change={(isAllowed) =>
                put(
                  'allow',
                  operations.filter((one) => (one === operation ? isAllowed : set.allow.includes(one))),
                )
              }
            />
          ))}
        </Group>
      </Input.Wrapper>
      <SimpleGrid cols={{ base: 1, sm: 3 }} spacing="sm" verticalSpacing="xs">
        {text('page', 'Rows of a page', '100')}
        {text('largest-page', 'Most rows of a page')}
        <Select
          size="xs"
          label="Version column"
          placeholder="none"
          data={['row', ...columns]}
          clearable
          searchable
          disabled={!isEditable}
          value={textAt(set.written, 'version') || null}
          onChange={(value) => put('version', value ?? undefined)}
        />
      </SimpleGrid>
      <SimpleGrid cols={{ base: 1, sm: 2 }} spacing="sm" verticalSpacing="xs">
        <CommitInput
          label="Order"
          placeholder="by the key"
          value={listAt(set.written, 'order').join(', ')}
          disabled={!isEditable}
          commit={(value) => put('order', value ? value.split(',').map((one) => one.trim()) : undefined)}
        />
        <Select
          size="xs"
          label="Changes are told by"
          placeholder="not told"
          data={columns}
          clearable
          searchable
          disabled={!isEditable}
          value={textAt(set.written, 'changes') || null}
          onChange={(value) => put('changes', value ?? undefined)}
        />
      </SimpleGrid>
      <QuickCheckbox
        label="Is read with a filter only, never as a whole"
        checked={textAt(set.written, 'require-filter') === 'true'}
        disabled={!isEditable}
        change={(isNeeded) => put('require-filter', isNeeded || undefined)}
      />
    </Stack>
  );
}

function KeyForm({ set, isEditable, change }: SetFormProps) {
  const find = useProgress((tell, signal) => findKeys(set.source, set.from, tell, signal));
  const doubled = useProgress((tell, signal) => findDoubled(set.source, set.from, set.key, tell, signal));
  const found = find.result;
  const isKeyless = textAt(set.written, 'keyless') === 'true';
  const declare = (columns: string[]) => {
    const isOwn = columns.join() === set.catalogKey.join();
    change({ set: set.index, path: ['key'], value: isOwn || columns.length === 0 ? undefined : columns });
  };
  return (
    <div>
      <Group align="end" gap="xs">
        <MultiSelect
          size="xs"
          label="Key"
          description={
            set.catalogKey.length > 0
              ? `The database declares ${set.catalogKey.join(', ')}.`
              : 'The database declares none: say what identifies a row.'
          }
          data={set.columns.map((column) => column.column)}
          searchable
          disabled={!isEditable}
          value={set.key}
          onChange={declare}
          flex={1}
          miw={220}
        />
        <Running label="Find keys" work={find} />
        <Running label="Look for duplicates" work={doubled} isDisabled={set.key.length === 0} />
      </Group>
      {set.catalogKey.length === 0 && (
        <QuickCheckbox
          mt={6}
          label="Nothing identifies a row: read it as a plain collection"
          checked={isKeyless}
          disabled={!isEditable}
          change={(value) => change({ set: set.index, path: ['keyless'], value })}
        />
      )}
      {doubled.result && <Doubled found={doubled.result} />}
      {found && (
        <section aria-label="Keys that were found">
          <Text size="sm" mt={6}>
            {found.rows.toLocaleString()} rows were counted over {found.tried} combinations of columns.
            {found.candidates.length === 0 && ' No one, two or three columns identify a row.'}
          </Text>
          <List size="sm" spacing={2}>
            {found.candidates.slice(0, 8).map((candidate) => (
              <List.Item key={candidate.columns.join()}>
                <Group gap="xs" wrap="nowrap">
                  <b>{candidate.columns.join(', ')}</b>
                  <Text span size="sm" c="dimmed">
                    {candidate.reason}
                  </Text>
                  <Button
                    size="compact-xs"
                    variant="default"
                    aria-label={`Take ${candidate.columns.join(', ')}`}
                    disabled={!isEditable}
                    onClick={() => declare(candidate.columns)}
                  >
                    Take
                  </Button>
                </Group>
              </List.Item>
            ))}
          </List>
        </section>
      )}
    </div>
  );
}

/** Rows that the key does not tell apart. */
function Doubled({ found }: { found: DoubledKeysInfo }) {
  if (found.groups === 0 && found.nulls === 0)
    return (
      <Text size="sm" mt={6} role="status">
        No two rows share a key, and none has a null in it.
      </Text>
    );
  return (
    <section aria-label="Duplicates">
      <Text size="sm" mt={6} c="var(--mantine-color-error)">
        {found.groups.toLocaleString()} values stand in several rows
        {found.nulls > 0 && `, and ${found.nulls.toLocaleString()} rows have a null`}.
      </Text>
      {found.examples.length > 0 && (
        <Table verticalSpacing={2} w="auto">
          <Table.Thead>
            <Table.Tr>
              {found.columns.map((column) => (
                <Table.Th key={column}>{column}</Table.Th>
              ))}
              <Table.Th className="number">Rows</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {found.examples.map((example) => (
              <Table.Tr key={JSON.stringify(example.values)}>
                {example.values.map((value, at) => (
                  <Table.Td key={at}>
                    <bdi>{value ?? 'null'}</bdi>
                  </Table.Td>
                ))}
                <Table.Td className="number">{example.rows.toLocaleString()}</Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
    </section>
  );
}
