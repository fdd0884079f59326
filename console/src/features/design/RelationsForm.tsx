import { ActionIcon, Badge, Button, Group, Select, Table, Text, TextInput } from '@mantine/core';
import { IconArrowRight, IconTrash } from '@tabler/icons-react';
import { useState } from 'react';
import type { RelationDesignInfo, SetDesignInfo } from '../../api/client';
import type { Change } from '../../api/design';
import { countOrphans } from '../../api/proofs';
import { useProgress } from '../../api/useProgress';
import { Running } from '../../components/Running';
import { Empty } from '../../components/States';
import { CommitInput } from './CommitInput';
import { useEditedSet } from './edited';
import { joinsAsWritten, type Join } from './joins';
import { valueAt } from './words';

interface RelationsFormProps {
  set: SetDesignInfo;
  sets: SetDesignInfo[];
  isEditable: boolean;
  change: (...changes: Change[]) => void;
}

/** The ways from a set to others: those of foreign keys as they are, and those that are declared. */
export function RelationsForm({ set, sets, isEditable, change }: RelationsFormProps) {
  const rename = (relation: RelationDesignInfo, name: string) => {
    if (!name || name === relation.name) return;
    const said = valueAt(set.written, 'relations', relation.name);
    const target = sets.find((one) => one.name === relation.to);
    const value = said ?? { to: relation.to, on: joinsAsWritten(relation.joins, target?.key ?? []) };
    const gone: Change[] = said === undefined ? [] : [{ set: set.index, path: ['relations', relation.name] }];
    change(...gone, { set: set.index, path: ['relations', name], value });
  };
  return (
    <>
      {set.relations.length === 0 ? (
        <Empty>No foreign key leads from here to a set of this service. Declare a relation below.</Empty>
      ) : (
        <Table.ScrollContainer minWidth={560}>
          <Table verticalSpacing={4} horizontalSpacing={6}>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Name</Table.Th>
                <Table.Th>Leads to</Table.Th>
                <Table.Th>By</Table.Th>
                <Table.Th>Orphans</Table.Th>
                <Table.Th>Comes from</Table.Th>
                <Table.Th aria-label="Remove" />
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {set.relations.map((relation) => (
                <Table.Tr key={relation.name}>
                  <Table.Td>
                    <CommitInput
                      aria-label={`Name of the relation ${relation.name}`}
                      value={relation.name}
                      disabled={!isEditable || !!valueAt(set.written, 'relations', relation.name, 'through')}
                      commit={(name) => rename(relation, name)}
                      w={112}
                    />
                  </Table.Td>
                  <Table.Td>
                    {relation.isCollection ? 'many' : 'one'} of {relation.to}
                  </Table.Td>
                  <Table.Td>{relation.joins.map((join) => `${join.own} = ${join.target}`).join(', ')}</Table.Td>
                  <Table.Td>
                    <Orphans set={set} relation={relation} />
                  </Table.Td>
                  <Table.Td>
                    <Badge tt="none" variant="light" color={relation.isDeclared ? 'cyan' : 'gray'}>
                      {relation.isDeclared ? 'the file' : relation.isCollection ? 'the way back' : 'a foreign key'}
                    </Badge>
                  </Table.Td>
                  <Table.Td>
                    {relation.isDeclared && (
                      <ActionIcon
                        size="sm"
                        variant="subtle"
                        color="red"
                        aria-label={`Remove the relation ${relation.name}`}
                        disabled={!isEditable}
                        onClick={() => change({ set: set.index, path: ['relations', relation.name] })}
                      >
                        <IconTrash size={15} />
                      </ActionIcon>
                    )}
                  </Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </Table.ScrollContainer>
      )}
      {isEditable && <NewRelation key={set.index} set={set} sets={sets} change={change} />}
    </>
  );
}

/** Counts the rows that refer to nothing. */
function Orphans({ set, relation }: { set: SetDesignInfo; relation: RelationDesignInfo }) {
  const edited = useEditedSet(set.index);
  const count = useProgress((tell, signal) => countOrphans(edited, relation.name, tell, signal));
  const found = count.result;
  if (!found) return <Running label="Count" work={count} />;
  return (
    <Text
      size="sm"
      role="status"
      c={found.orphans > 0 ? 'var(--mantine-color-error)' : 'dimmed'}
      title={found.examples.join('; ')}
    >
      {found.orphans === 0
        ? `none of ${found.referring.toLocaleString()}`
        : `${found.orphans.toLocaleString()} of ${found.referring.toLocaleString()} rows of ${found.holder}`}
    </Text>
  );
}

function NewRelation({ set, sets, change }: Omit<RelationsFormProps, 'isEditable'>) {
  const [name, setName] = useState('');
  const [to, setTo] = useState<string | null>(null);
  const [joins, setJoins] = useState<Partial<Join>[]>([{}]);
  const target = sets.find((one) => one.name === to);
  const whole = joins.filter((join): join is Join => !!join.own && !!join.target);
  const taken = set.relations.some((relation) => relation.name === name);
  const choose = (value: string | null) => {
    setTo(value);
    // The key of the other set is what most relations lead to; a column of the same name is the likely way.
    const key = sets.find((one) => one.name === value)?.key ?? [];
    const own = set.columns.map((column) => column.column);
    setJoins(
      key.length === 0
        ? [{}]
        : key.map((column) => ({ own: own.includes(column) ? column : undefined, target: column })),
    );
  };
  const put = (at: number, part: Partial<Join>) =>
    setJoins(joins.map((join, index) => (index === at ? { ...join, ...part } : join)));
  return (
    <form
      aria-label="New relation"
      onSubmit={(event) => {
        event.preventDefault();
        change({
          set: set.index,
          path: ['relations', name],
          value: { to, on: joinsAsWritten(whole, target?.key ?? []) },
        });
        setName('');
        choose(null);
      }}
    >
      <Text fw={600} size="sm" mt="md" mb={4}>
        New relation
      </Text>
      <Group align="end" gap="xs">
        <TextInput
          size="xs"
          label="Name"
          value={name}
          onChange={(event) => setName(event.currentTarget.value.trim())}
          error={taken ? 'It is there already.' : undefined}
          w={150}
        />
        <Select
          size="xs"
          label="Leads to"
          data={sets.map((one) => one.name)}
          searchable
          value={to}
          onChange={choose}
          w={180}
        />
        {to &&
          joins.map((join, at) => (
            <Group key={at} gap={4} align="end" wrap="nowrap">
              <Select
                size="xs"
                label={`Column of ${set.name}`}
                data={set.columns.map((column) => column.column)}
                searchable
                value={join.own ?? null}
                onChange={(value) => put(at, { own: value ?? undefined })}
                w={150}
              />
              <IconArrowRight size={16} aria-hidden style={{ marginBottom: 7 }} />
              <Select
                size="xs"
                label={`Column of ${to}`}
                data={target?.columns.map((column) => column.column) ?? []}
                searchable
                value={join.target ?? null}
                onChange={(value) => put(at, { target: value ?? undefined })}
                w={150}
              />
            </Group>
          ))}
        {to && (
          <Button size="xs" variant="subtle" onClick={() => setJoins([...joins, {}])}>
            Another column
          </Button>
        )}
        <Button size="xs" type="submit" disabled={!name || !to || taken || whole.length === 0}>
          Add
        </Button>
      </Group>
    </form>
  );
}
