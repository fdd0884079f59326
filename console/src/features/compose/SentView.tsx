import { Badge, Code, Group, Table, Tabs, Text } from '@mantine/core';
import type { ReactNode } from 'react';
import { useMemo } from 'react';
import type { SentAnswer } from '../../api/client';
import { exactly } from '../../api/statement';
import { Scroller } from '../../components/Scroller';
import { JsonTree } from './JsonTree';

interface SentViewProps {
  answer: SentAnswer;
  /** Takes an address of the answer as the next request; undefined = it is of no service. */
  follow: (name: string, text: string) => (() => void) | undefined;
  /** What can be done with the answer. */
  children?: ReactNode;
}

const kinds: [number, string, string][] = [
  [500, 'red', 'failed'],
  [400, 'orange', 'refused'],
  [300, 'blue', 'elsewhere'],
  [200, 'green', 'done'],
];

/** An answer with what is behind it: the body folded, as a table or as it came, headers, statements and rules. */
export function SentView({ answer, follow, children }: SentViewProps) {
  const json = useMemo(() => jsonOf(answer), [answer]);
  const rows = rowsOf(json);
  const [, color, word] = kinds.find(([least]) => answer.status >= least) ?? [0, 'red', 'no answer'];
  const first = json !== undefined ? 'folded' : 'raw';
  return (
    <section aria-label="Answer">
      <Group gap="sm" mb="xs" role="status">
        <Badge tt="none" size="lg" color={color} variant="light">
          {answer.status === 0 ? word : `${answer.status} ${word}`}
        </Badge>
        {answer.isUndone && answer.status < 400 && (
          <Badge tt="none" size="lg" color="gray" variant="light">
            tried and undone
          </Badge>
        )}
        <Text size="sm">
          as {answer.caller}, {answer.milliseconds.toLocaleString()} ms, {answer.bytes.toLocaleString()} bytes
        </Text>
        {children}
      </Group>
      <Tabs defaultValue={first} keepMounted={false} key={first}>
        <Tabs.List mb="xs">
          {json !== undefined && <Tabs.Tab value="folded">Folded</Tabs.Tab>}
          {rows.length > 0 && <Tabs.Tab value="table">Table</Tabs.Tab>}
          <Tabs.Tab value="raw">As it came</Tabs.Tab>
          <Tabs.Tab value="headers">Headers ({answer.headers.length})</Tabs.Tab>
          <Tabs.Tab value="statements">Statements ({answer.statements.length + answer.moreStatements})</Tabs.Tab>
          <Tabs.Tab value="rules">Rules ({answer.rules.length})</Tabs.Tab>
          {answer.programs.length > 0 && <Tabs.Tab value="programs">Programs</Tabs.Tab>}
        </Tabs.List>
        <Tabs.Panel value="folded">
          <div className="answer" tabIndex={0} role="group" aria-label="Body, folded">
            <JsonTree value={json} open={rows.length <= 10 ? 3 : 2} follow={follow} />
          </div>
        </Tabs.Panel>
        <Tabs.Panel value="table">
          <RowsTable rows={rows} />
        </Tabs.Panel>
        <Tabs.Panel value="raw">
          <Code block className="answer" tabIndex={0} aria-label="Body as it came">
            {answer.body ?? `${answer.bytes.toLocaleString()} bytes that are no text`}
            {answer.isCut && '\n… and more'}
          </Code>
        </Tabs.Panel>
        <Tabs.Panel value="headers">
          <Table verticalSpacing={2} aria-label="Headers of the answer">
            <Table.Tbody>
              {answer.headers.map((header) => (
                <Table.Tr key={header.name}>
                  <Table.Th w={220}>{header.name}</Table.Th>
                  <Table.Td className="address">{header.value}</Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </Tabs.Panel>
        <Tabs.Panel value="statements">
          <Statements answer={answer} />
        </Tabs.Panel>
        <Tabs.Panel value="programs">
          {answer.programs.map((program) => (
            <div key={program.language}>
              <Text size="xs" c="dimmed" mt="xs">
                {program.language}
              </Text>
              <Code block tabIndex={0} aria-label={`Program in ${program.language}`}>
                {program.text}
              </Code>
            </div>
          ))}
        </Tabs.Panel>
        <Tabs.Panel value="rules">
          {answer.rules.length === 0 && (
            <Text size="sm" c="dimmed">
              No set is asked for here.
            </Text>
          )}
          <ul className="effects">
            {answer.rules.map((rule) => (
              <li key={`${rule.set} ${rule.rule} ${rule.place}`}>
                <Text size="sm" c={rule.applies ? undefined : 'dimmed'}>
                  {rule.set}: {rule.rule}: {rule.effect}
                  {rule.place && ` (${rule.place})`}
                </Text>
              </li>
            ))}
          </ul>
        </Tabs.Panel>
      </Tabs>
    </section>
  );
}

function Statements({ answer }: { answer: SentAnswer }) {
  if (answer.statements.length === 0)
    return (
      <Text size="sm" c="dimmed">
        No database was asked.
      </Text>
    );
  return (
    <>
      {answer.statements.map((statement, at) => (
        <div key={at}>
          <Text size="xs" c="dimmed" mt={at ? 'xs' : 0}>
            {statement.source}
          </Text>
          <Code block tabIndex={0} aria-label={`Statement ${at + 1}`}>
            {statement.sql}
            {statement.parameters.length > 0 && `\n-- ${statement.parameters.join(', ')}`}
          </Code>
        </div>
      ))}
      {answer.moreStatements > 0 && <Text size="sm">and {answer.moreStatements} more</Text>}
    </>
  );
}

function jsonOf(answer: SentAnswer): unknown {
  const type = answer.headers.find((header) => header.name === 'content-type')?.value ?? '';
  if (answer.isCut || !answer.body || !/json/.test(type) || /ndjson/.test(type)) return undefined;
  try {
    return exactly(answer.body);
  } catch {
    return undefined;
  }
}

type Row = Record<string, unknown>;

/** The rows of a list, whichever form it has. */
function rowsOf(json: unknown): Row[] {
  const list = Array.isArray(json)
    ? json
    : typeof json === 'object' && json !== null
      ? ((json as Row).value ?? (json as Row).rows)
      : undefined;
  return Array.isArray(list)
    ? list.filter((row): row is Row => typeof row === 'object' && row !== null && !Array.isArray(row))
    : [];
}

const mostRows = 200;

function RowsTable({ rows }: { rows: Row[] }) {
  const names = [...new Set(rows.flatMap((row) => Object.keys(row)))];
  return (
    <Scroller label="Rows of the answer">
      <Table verticalSpacing={2} striped fz="sm">
        <Table.Thead>
          <Table.Tr>
            {names.map((name) => (
              <Table.Th key={name}>{name}</Table.Th>
            ))}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {rows.slice(0, mostRows).map((row, at) => (
            <Table.Tr key={at}>
              {names.map((name) => (
                <Table.Td key={name} className={typeof row[name] === 'number' ? 'number clip' : 'clip'}>
                  <bdi>{shown(row[name])}</bdi>
                </Table.Td>
              ))}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {rows.length > mostRows && <Text size="sm">and {rows.length - mostRows} more</Text>}
    </Scroller>
  );
}

function shown(value: unknown): string {
  if (value === undefined) return '';
  return typeof value === 'object' ? JSON.stringify(value) : String(value);
}
