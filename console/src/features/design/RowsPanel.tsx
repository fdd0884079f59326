import { Code, Group, Table, Text } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import type { SetDesignInfo } from '../../api/client';
import { fetchDesignRows } from '../../api/design';
import { CallerInput } from '../../components/CallerInput';
import { Scroller } from '../../components/Scroller';
import { Failed, Pending } from '../../components/States';

interface RowsPanelProps {
  service: string;
  set: SetDesignInfo;
  /** The file as it is being changed. */
  text: string;
  roles: string[];
  /** As whom; '' = anonymous. */
  caller: string;
  setCaller: (caller: string) => void;
}

export interface RowsPayload {
  '@odata.count'?: number | string;
  '@count'?: number | string;
  value?: Record<string, unknown>[];
}

/** The first rows of a set as a caller gets them by the draft, with the rules that decide. */
export function RowsPanel({ service, set, text, roles, caller, setCaller }: RowsPanelProps) {
  const [settled] = useDebouncedValue(text, 300);
  const [who] = useDebouncedValue(caller, 300);
  const rows = useQuery({
    queryKey: ['draft', 'rows', service, set.name, who, settled],
    queryFn: () => fetchDesignRows(service, settled, set.name, who || undefined),
    enabled: set.isBuilt,
  });
  return (
    <section aria-label={`Rows of ${set.name} as a caller sees them`}>
      <Group align="end" gap="sm" mb="xs">
        <CallerInput roles={roles} caller={caller} setCaller={setCaller} />
      </Group>
      {!set.isBuilt ? (
        <Text c="dimmed">The set has faults and is not published.</Text>
      ) : rows.isPending ? (
        <Pending what="rows" />
      ) : rows.isError ? (
        <Failed error={rows.error} retry={rows.refetch} />
      ) : (
        <>
          {rows.data.fault ? (
            <Text size="sm">
              Refused with {rows.data.fault.status}: {rows.data.fault.message}
            </Text>
          ) : (
            <Rows payload={rows.data.body as RowsPayload} />
          )}
          <Text size="sm" fw={600} mt="sm">
            Why
          </Text>
          <ul className="effects">
            {rows.data.rules.map((rule) => (
              <li key={`${rule.set} ${rule.rule} ${rule.place}`}>
                <Text size="sm" c={rule.applies ? undefined : 'dimmed'}>
                  {rule.rule}: {rule.effect}
                  {rule.place && ` (${rule.place})`}
                </Text>
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}

export function Rows({ payload }: { payload: RowsPayload }) {
  const rows = payload.value ?? [];
  const count = payload['@odata.count'] ?? payload['@count'];
  const names = [...new Set(rows.flatMap((row) => Object.keys(row)))].filter((name) => !name.includes('@'));
  return (
    <>
      <Text size="sm" mb={4}>
        {Number(count ?? rows.length).toLocaleString()} {Number(count ?? rows.length) === 1 ? 'row' : 'rows'}
        {rows.length > 0 && `, the first ${rows.length}`}:
      </Text>
      {rows.length > 0 && (
        <Scroller label="The first rows">
          <Table verticalSpacing={2} striped>
            <Table.Thead>
              <Table.Tr>
                {names.map((name) => (
                  <Table.Th key={name}>{name}</Table.Th>
                ))}
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {rows.map((row, at) => (
                <Table.Tr key={at}>
                  {names.map((name) => (
                    <Table.Td key={name} className={typeof row[name] === 'number' ? 'number clip' : 'clip'}>
                      <Cell value={row[name]} />
                    </Table.Td>
                  ))}
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </Scroller>
      )}
    </>
  );
}

function Cell({ value }: { value: unknown }) {
  if (value === null || value === undefined)
    return (
      <Text span c="dimmed" size="sm">
        null
      </Text>
    );
  return typeof value === 'object' ? <Code>{JSON.stringify(value)}</Code> : <bdi>{String(value)}</bdi>;
}
