import { Alert, Button, Code, Group, Paper, SimpleGrid, Stack, Table, Text, Textarea, TextInput } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { useParams } from 'react-router';
import {
  fetchService,
  type PropertyInfo,
  RequestError,
  restOf,
  sendStatement,
  type ServiceDetails,
  type SetInfo,
  type StatementResult,
} from '../../api/client';
import { parametersOf } from '../../api/statement';
import { Address } from '../../components/Address';
import { Heading } from '../../components/Heading';
import { Failed, Pending } from '../../components/States';
import { CallerBar } from './CallerBar';

/** One SELECT over the sets of a service, sent as whoever is chosen, with its rows. */
export function SqlPage() {
  const { service = '' } = useParams();
  const details = useQuery({ queryKey: ['service', service], queryFn: () => fetchService(service) });
  if (details.isPending) return <Pending what="the service" />;
  if (details.isError) return <Failed error={details.error} retry={details.refetch} />;
  return (
    <>
      <Heading
        way={[
          { label: 'Services', to: '/services' },
          { label: details.data.title, to: `/services/${service}` },
        ]}
        title="Statements over sets"
      />
      {details.data.sql ? (
        <Editor service={details.data} />
      ) : (
        <Text>This service takes no statements. &lsquo;sql&rsquo; in its declaration opens it to a role.</Text>
      )}
    </>
  );
}

const key = (service: string, what: string) => `gable.sql.${service}.${what}`;

/** What was sent last in this browser; a first statement when there is nothing. */
function remembered(service: ServiceDetails): string {
  const first = service.sets.find(isRead);
  return (
    localStorage.getItem(key(service.name, 'statement')) ?? (first ? `SELECT *\nFROM "${first.name}"\nLIMIT 10` : '')
  );
}

function rememberedValues(service: ServiceDetails): Record<string, string> {
  try {
    return JSON.parse(localStorage.getItem(key(service.name, 'values')) ?? '{}');
  } catch {
    return {};
  }
}

const isRead = (set: SetInfo) => set.kind !== 'contained' && !set.query;

const isColumn = ({ type, members, enumMembers }: PropertyInfo) =>
  !members?.length && (enumMembers !== undefined || (type.startsWith('Edm.') && type !== 'Edm.Stream'));

function Editor({ service }: { service: ServiceDetails }) {
  const [text, setText] = useState(() => remembered(service));
  const [values, setValues] = useState(() => rememberedValues(service));
  const url = `${restOf(service)}sql`;
  const names = parametersOf(text);
  const sent = useMutation({
    mutationFn: () => sendStatement(url, text, Object.fromEntries(names.map((name) => [name, values[name] ?? '']))),
  });
  const run = () => {
    localStorage.setItem(key(service.name, 'statement'), text);
    localStorage.setItem(key(service.name, 'values'), JSON.stringify(values));
    sent.mutate();
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    run();
  };
  return (
    <Stack gap="sm">
      <Group gap="xs">
        <Address url={url} label="the address that takes statements" />
        <Text size="sm" c="dimmed">
          open to: {service.sql}
        </Text>
      </Group>
      <CallerBar />
      <Paper component="form" aria-label="Statement" onSubmit={submit} withBorder p="sm">
        <Textarea
          label="One SELECT, in the names of sets and properties"
          value={text}
          onChange={(event) => setText(event.currentTarget.value)}
          onKeyDown={(event) => {
            if (event.key === 'Enter' && (event.ctrlKey || event.metaKey)) run();
          }}
          autosize
          minRows={4}
          maxRows={16}
          spellCheck={false}
          styles={{ input: { fontFamily: 'var(--mantine-font-family-monospace)' } }}
        />
        {names.length > 0 && (
          <SimpleGrid cols={{ base: 1, sm: 2, lg: 4 }} spacing="sm" mt="sm">
            {names.map((name) => (
              <TextInput
                key={name}
                label={`:${name}`}
                value={values[name] ?? ''}
                onChange={(event) => setValues({ ...values, [name]: event.currentTarget.value })}
              />
            ))}
          </SimpleGrid>
        )}
        <Group mt="sm" gap="xs">
          <Button type="submit" size="xs" loading={sent.isPending}>
            Run
          </Button>
          <Text size="xs" c="dimmed">
            or Ctrl and Enter
          </Text>
        </Group>
      </Paper>
      {sent.error && <Refused error={sent.error} open={service.sql ?? ''} />}
      {sent.data && !sent.isPending && <Result result={sent.data} />}
      <Sets service={service} />
    </Stack>
  );
}

function Refused({ error, open }: { error: Error; open: string }) {
  const isClosed = error instanceof RequestError && (error.status === 404 || error.status === 401);
  return (
    <Alert
      color="red"
      title={isClosed ? `Not open to this caller; it is open to: ${open}` : error.message}
      role="alert"
    >
      {error instanceof RequestError && error.pointer && <Code block>{error.pointer}</Code>}
    </Alert>
  );
}

const isNumber = (type: string) => /^(s?byte|int(16|32|64)|decimal|single|double)$/.test(type);

function Result({ result }: { result: StatementResult }) {
  return (
    <>
      <Text size="sm" aria-live="polite">
        {result.rows.length} {result.rows.length === 1 ? 'row' : 'rows'} in {result.milliseconds.toFixed(0)} ms
      </Text>
      <div className="rows" tabIndex={0} role="region" aria-label="Rows of the statement">
        <Table verticalSpacing={3} horizontalSpacing="xs" fz="sm" striped stickyHeader>
          <Table.Thead>
            <Table.Tr>
              {result.columns.map((column) => (
                <Table.Th key={column.name} className={isNumber(column.type) ? 'number' : undefined}>
                  <span title={column.description}>{column.name}</span>
                  <Text size="xs" c="dimmed">
                    {column.type}
                    {column.unit && `, ${column.unit}`}
                  </Text>
                </Table.Th>
              ))}
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {result.rows.map((row, index) => (
              <Table.Tr key={index}>
                {result.columns.map((column) => (
                  <Table.Td key={column.name} className={isNumber(column.type) ? 'number' : undefined}>
                    {row[column.name] === null ? (
                      <Text span c="dimmed" size="sm">
                        null
                      </Text>
                    ) : (
                      String(row[column.name])
                    )}
                  </Table.Td>
                ))}
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </div>
    </>
  );
}

/** The names that a statement can use; a caller may see fewer of them. */
function Sets({ service }: { service: ServiceDetails }) {
  return (
    <Paper withBorder p="sm" aria-label="Sets and their columns" component="section">
      <Text size="sm" fw={650} mb={4}>
        Sets and their columns
      </Text>
      {service.sets.filter(isRead).map((set) => (
        <Text key={set.name} size="xs" className="address">
          <b>{set.name}</b>{' '}
          <Text span size="xs" c="dimmed">
            {set.properties
              .filter(isColumn)
              .map((property) => property.name)
              .join(', ')}
          </Text>
        </Text>
      ))}
    </Paper>
  );
}
