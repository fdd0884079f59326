import { Button, Group, Select, SimpleGrid, Stack, Table, Text, TextInput } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { Link } from 'react-router';
import { fetchSources, type QueryDesignInfo } from '../../api/client';
import { type Change, fetchDesignRows } from '../../api/design';
import { parametersOf } from '../../api/statement';
import { CallerInput } from '../../components/CallerInput';
import { Scroller } from '../../components/Scroller';
import { Failed } from '../../components/States';
import { CommitInput } from './CommitInput';
import { QuickCheckbox } from './QuickCheckbox';
import { Rows, type RowsPayload } from './RowsPanel';
import { SqlEditor } from './SqlEditor';
import { typeNames } from './typeNames';
import { textAt, valueAt } from './words';

interface QueryFormProps {
  service: string;
  /** The file as it is being changed. */
  text: string;
  query: QueryDesignInfo;
  roles: string[];
  /** Names of the service's own types. */
  ownTypes: string[];
  isEditable: boolean;
  change: (...changes: Change[]) => void;
}

const results = ['rows', 'row', 'value', 'nothing'];

/** A query: its statement with the names of the catalog, its parameters and columns, and a run with values. */
export function QueryForm({ service, text, query, roles, ownTypes, isEditable, change }: QueryFormProps) {
  const at = (...words: (string | number)[]) => [...(query.path as (string | number)[]), ...words];
  const put = (word: string, value: unknown) => change({ path: at(word), value });
  const file = textAt(query.written, 'file');
  const routine = textAt(query.written, 'routine');
  return (
    <Stack gap="sm" component="section" aria-label={`Query ${query.name}`}>
      <SimpleGrid cols={{ base: 1, sm: 3 }} spacing="sm" verticalSpacing="xs">
        <CommitInput
          label="Name"
          value={query.name}
          disabled={!isEditable}
          commit={(value) => value && put('name', value)}
        />
        <Select
          size="xs"
          label="It gives"
          data={results}
          value={textAt(query.written, 'gives') || 'rows'}
          disabled={!isEditable}
          allowDeselect={false}
          onChange={(value) => put('gives', value === 'rows' ? undefined : value)}
        />
        <CommitInput
          label="Key"
          placeholder="columns that identify a row"
          value={[valueAt(query.written, 'key')].flat().filter(Boolean).join(', ')}
          disabled={!isEditable}
          commit={(value) => put('key', value ? value.split(',').map((one) => one.trim()) : undefined)}
        />
      </SimpleGrid>
      <CommitInput
        label="Description"
        value={textAt(query.written, 'description')}
        disabled={!isEditable}
        commit={(value) => put('description', value || undefined)}
      />
      {file && (
        <Text size="sm">
          The statement stands in a file of its own:{' '}
          <Link to={`/files?${new URLSearchParams({ file: `services/${file}` })}`}>services/{file}</Link>
        </Text>
      )}
      {routine && <Text size="sm">It calls the routine {routine} of the database.</Text>}
      {!file && !routine && <Statement query={query} isEditable={isEditable} at={at} change={change} />}
      <Parameters query={query} ownTypes={ownTypes} isEditable={isEditable} at={at} change={change} />
      <Columns query={query} />
      {query.changes ? (
        <Text size="sm" c="dimmed">
          It may change something, so a draft of it is not run. Publish it, and call it on the page of the service.
        </Text>
      ) : (
        <Run key={query.name} service={service} text={text} query={query} roles={roles} />
      )}
    </Stack>
  );
}

interface PartProps {
  query: QueryDesignInfo;
  isEditable: boolean;
  at: (...words: (string | number)[]) => (string | number)[];
  change: (...changes: Change[]) => void;
}

/** The statement. When it is left, parameters that it names are declared, and those that it does not are not. */
function Statement({ query, isEditable, at, change }: PartProps) {
  const written = textAt(query.written, 'select');
  const [typed, setTyped] = useState<string>();
  const sources = useQuery({ queryKey: ['sources'], queryFn: fetchSources });
  const names = useMemo(() => {
    const source = sources.data?.find((one) => one.name === query.source);
    return Object.fromEntries(source?.objects.map((object) => [object.name, object.columns]) ?? []);
  }, [sources.data, query.source]);
  const settle = () => {
    if (typed === undefined || typed === written) return;
    const declared = Object.keys((valueAt(query.written, 'parameters') ?? {}) as object);
    const used = parametersOf(typed);
    const gone = declared.filter((name) => !used.includes(name));
    const fresh = used.filter((name) => !declared.includes(name));
    change(
      { path: at('select'), value: typed },
      ...(gone.length === declared.length && gone.length > 0
        ? [{ path: at('parameters') }]
        : gone.map((name) => ({ path: at('parameters', name) }))),
      ...fresh.map((name) => ({ path: at('parameters', name), value: 'string' })),
    );
    setTyped(undefined);
  };
  return (
    <div>
      <Text size="xs" fw={500}>
        Statement
      </Text>
      <SqlEditor
        label={`Statement of ${query.name}`}
        text={typed ?? written}
        names={names}
        isEditable={isEditable}
        change={(text) => setTyped(text === written ? undefined : text)}
        settle={settle}
      />
    </div>
  );
}

function Parameters({ query, ownTypes, isEditable, at, change }: PartProps & { ownTypes: string[] }) {
  const said = (valueAt(query.written, 'parameters') ?? {}) as Record<string, unknown>;
  const names = Object.keys(said);
  if (names.length === 0) return null;
  /** A parameter that is only a type becomes a mapping when more is said of it. */
  const put = (name: string, word: string, value: unknown) => {
    const now = said[name];
    if (typeof now === 'string')
      change({ path: at('parameters', name), value: word === 'type' ? value : { type: now, [word]: value } });
    else change({ path: at('parameters', name, word), value });
  };
  return (
    <Scroller label={`Parameters of ${query.name}`}>
      <Table verticalSpacing={2} horizontalSpacing={6} aria-label={`Parameters of ${query.name}`}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Parameter</Table.Th>
            <Table.Th>Type</Table.Th>
            <Table.Th>Required</Table.Th>
            <Table.Th>Default</Table.Th>
            <Table.Th>Example</Table.Th>
            <Table.Th>Taken from the caller</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {names.map((name) => {
            const words = said[name];
            const type = typeof words === 'string' ? words : textAt(words, 'type');
            const field = (word: string, label: string, placeholder = '') => (
              <CommitInput
                aria-label={`${label} of ${name}`}
                placeholder={placeholder}
                value={textAt(words, word)}
                disabled={!isEditable}
                commit={(value) => put(name, word, value || undefined)}
                miw={90}
              />
            );
            return (
              <Table.Tr key={name}>
                <Table.Td>:{name}</Table.Td>
                <Table.Td>
                  <Select
                    size="xs"
                    aria-label={`Type of ${name}`}
                    data={[...new Set([...ownTypes, ...typeNames, type])]}
                    value={type}
                    searchable
                    allowDeselect={false}
                    disabled={!isEditable}
                    onChange={(value) => put(name, 'type', value)}
                    miw={120}
                  />
                </Table.Td>
                <Table.Td>
                  <QuickCheckbox
                    aria-label={`${name} is required`}
                    checked={textAt(words, 'required') !== 'false'}
                    disabled={!isEditable}
                    change={(isRequired) => put(name, 'required', isRequired ? undefined : false)}
                  />
                </Table.Td>
                <Table.Td>{field('default', 'Default')}</Table.Td>
                <Table.Td>{field('example', 'Example')}</Table.Td>
                <Table.Td>{field('taken-from', 'Source', 'user, roles, …')}</Table.Td>
              </Table.Tr>
            );
          })}
        </Table.Tbody>
      </Table>
    </Scroller>
  );
}

function Columns({ query }: { query: QueryDesignInfo }) {
  if (!query.isBuilt)
    return (
      <Text size="sm" c="dimmed">
        It has faults, so that the database cannot say what it gives.
      </Text>
    );
  return (
    <Text size="sm">
      It gives{' '}
      {query.columns.length === 0
        ? 'nothing'
        : query.columns.map((column) => `${column.name} (${column.type.replace(/^Edm\./, '')})`).join(', ')}
      .
    </Text>
  );
}

function Run({ service, text, query, roles }: Pick<QueryFormProps, 'service' | 'text' | 'query' | 'roles'>) {
  const given = query.parameters.filter((parameter) => !parameter.takenFrom);
  const [values, setValues] = useState<Record<string, string>>({});
  const [caller, setCaller] = useState('');
  const run = useMutation({
    mutationFn: () => {
      const all = given.map((parameter): [string, string] => [
        parameter.name,
        values[parameter.name] ?? (parameter.isRequired ? parameter.sample : ''),
      ]);
      const told = Object.fromEntries(all.filter(([, value]) => value !== ''));
      return fetchDesignRows(service, text, query.name, caller || undefined, told);
    },
  });
  return (
    <form
      aria-label={`Run ${query.name}`}
      onSubmit={(event) => {
        event.preventDefault();
        run.mutate();
      }}
    >
      <Group align="end" gap="xs">
        {given.map((parameter) => (
          <TextInput
            key={parameter.name}
            size="xs"
            label={`:${parameter.name}`}
            placeholder={parameter.isRequired ? parameter.sample : 'left out'}
            value={values[parameter.name] ?? ''}
            onChange={(event) => setValues({ ...values, [parameter.name]: event.currentTarget.value })}
            w={140}
          />
        ))}
        <CallerInput roles={roles} caller={caller} setCaller={setCaller} />
        <Button size="xs" type="submit" disabled={!query.isBuilt} loading={run.isPending}>
          Run
        </Button>
      </Group>
      {run.isError && <Failed error={run.error} />}
      {run.data?.fault && (
        <Text size="sm" mt="xs" role="alert">
          Refused with {run.data.fault.status}: {run.data.fault.message}
        </Text>
      )}
      {run.data && !run.data.fault && (
        <div role="status">
          <Rows payload={payloadOf(run.data.body)} />
        </div>
      )}
    </form>
  );
}

/** One row or a value as rows of one. */
function payloadOf(body: unknown): RowsPayload {
  if (typeof body !== 'object' || body === null) return { value: [] };
  const { value } = body as RowsPayload;
  if (Array.isArray(value)) return body as RowsPayload;
  return { value: [value === undefined ? (body as Record<string, unknown>) : { value }] };
}
