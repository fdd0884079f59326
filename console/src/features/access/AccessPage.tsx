import { Badge, Button, Code, Group, Paper, Stack, Table, Text, TextInput, Title } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useParams, useSearchParams } from 'react-router';
import {
  type AccessCell,
  fetchAccess,
  fetchRuleEffects,
  fetchService,
  type ServiceDetails,
  viewAs,
  type Viewer,
} from '../../api/client';
import { CallerSelect, callersOf, nobody, viewerOf } from '../../components/CallerSelect';
import { Heading } from '../../components/Heading';
import { Failed, Pending } from '../../components/States';

/** Who may do what to which set, and the service as somebody else sees it. */
export function AccessPage() {
  const { service = '' } = useParams();
  const details = useQuery({ queryKey: ['service', service], queryFn: () => fetchService(service) });
  const access = useQuery({ queryKey: ['access', service], queryFn: () => fetchAccess(service) });
  if (details.isPending || access.isPending) return <Pending what="the rules" />;
  if (details.isError) return <Failed error={details.error} retry={details.refetch} />;
  if (access.isError) return <Failed error={access.error} retry={access.refetch} />;
  return (
    <>
      <Heading
        way={[
          { label: 'Services', to: '/services' },
          { label: details.data.title, to: `/services/${service}` },
        ]}
        title="Who may do what"
      />
      <Matrix cells={access.data} />
      <ViewAs service={details.data} callers={callersOf(access.data)} />
    </>
  );
}

/** Sets downwards, callers across. */
function Matrix({ cells }: { cells: AccessCell[] }) {
  const callers = callersOf(cells);
  const sets = [...new Set(cells.map((cell) => cell.set))];
  return (
    <Table.ScrollContainer minWidth={600}>
      <Table verticalSpacing={6} withColumnBorders aria-label="Who may do what">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Set</Table.Th>
            {callers.map((caller) => (
              <Table.Th key={caller}>{caller}</Table.Th>
            ))}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {sets.map((set) => (
            <Table.Tr key={set}>
              <Table.Th scope="row" style={{ verticalAlign: 'top' }}>
                {set}
              </Table.Th>
              {callers.map((caller) => (
                <Table.Td key={caller} style={{ verticalAlign: 'top' }}>
                  <Cell cell={cells.find((cell) => cell.set === set && cell.caller === caller)} />
                </Table.Td>
              ))}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Table.ScrollContainer>
  );
}

function Cell({ cell }: { cell: AccessCell | undefined }) {
  if (!cell?.may)
    return (
      <Text size="sm" c="dimmed" title={cell?.rules.join('\n')}>
        nothing
      </Text>
    );
  return (
    <div title={cell.rules.join('\n')}>
      <Group gap={4}>
        {cell.may.split(', ').map((operation) => (
          <Badge key={operation} tt="none" variant="light">
            {operation}
          </Badge>
        ))}
      </Group>
      {cell.rows && (
        <Text size="xs" mt={4} className="address">
          {cell.rows}
        </Text>
      )}
      {cell.notShown.length > 0 && (
        <Text size="xs" c="dimmed" mt={2}>
          not shown: {cell.notShown.join(', ')}
        </Text>
      )}
      {cell.masked.length > 0 && (
        <Text size="xs" c="dimmed" mt={2}>
          always null: {cell.masked.join(', ')}
        </Text>
      )}
    </div>
  );
}

function ViewAs({ service, callers }: { service: ServiceDetails; callers: string[] }) {
  // What is looked at lives in the page's own address, so that it can be kept and sent to others.
  const [search, setSearch] = useSearchParams();
  const [who, setWho] = useState(search.get('as') ?? nobody);
  const [attributes, setAttributes] = useState(search.get('attributes') ?? '');
  const [path, setPath] = useState(search.get('request') ?? service.sets.find((set) => set.kind === 'set')?.name ?? '');
  const isUser = who.startsWith('user ');
  const request = search.get('request');
  return (
    <Paper component="section" aria-label="View as" mt="lg">
      <Title order={3} size="h4" mb="xs">
        View as
      </Title>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          setSearch({ as: who, ...(attributes ? { attributes } : {}), request: path }, { replace: true });
        }}
      >
        <Group align="flex-end" gap="sm">
          <CallerSelect callers={callers} who={who} onChange={setWho} />
          <TextInput
            label="Attributes"
            placeholder="region=north"
            disabled={isUser || who === nobody}
            value={attributes}
            onChange={(event) => setAttributes(event.currentTarget.value)}
            size="xs"
            w={180}
          />
          <TextInput
            label="Request"
            placeholder="Stations?$top=5"
            value={path}
            onChange={(event) => setPath(event.currentTarget.value)}
            styles={{ input: { fontFamily: 'var(--mantine-font-family-monospace)' } }}
            size="xs"
            flex={1}
            miw={240}
            spellCheck={false}
          />
          <Button type="submit" size="xs">
            Look
          </Button>
        </Group>
      </form>
      {request !== null && (
        <SeenAnswer
          url={`/odata/${service.name}/${request}`}
          viewer={viewerOf(search.get('as') ?? nobody, search.get('attributes') ?? '')}
        />
      )}
    </Paper>
  );
}

function SeenAnswer({ url, viewer }: { url: string; viewer: Viewer }) {
  const seen = useQuery({ queryKey: ['view', url, viewer], queryFn: () => viewAs(url, viewer), gcTime: 0 });
  const rules = useQuery({ queryKey: ['effects', url, viewer], queryFn: () => fetchRuleEffects(url, viewer) });
  if (seen.isPending) return <Pending what="what they see" />;
  if (seen.isError) return <Failed error={seen.error} retry={seen.refetch} />;
  return (
    <Stack gap="xs" mt="sm">
      <Group gap="xs">
        <Badge tt="none" color={seen.data.status < 400 ? 'cyan' : 'red'} variant="light">
          answers {seen.data.status}
        </Badge>
        <Text size="xs" c="dimmed" className="address">
          GET {url}
        </Text>
      </Group>
      {rules.data && rules.data.length > 0 && (
        <ul className="effects" aria-label="Rules">
          {rules.data.map((rule) => (
            <li key={`${rule.set} ${rule.rule} ${rule.place}`}>
              <Text size="sm" component="span" fw={rule.applies ? 650 : undefined}>
                {rule.set}: {rule.rule}
              </Text>{' '}
              <Text size="sm" component="span" c={rule.applies ? undefined : 'dimmed'}>
                {rule.effect}
                {rule.place && ` (${rule.place})`}
              </Text>
            </li>
          ))}
        </ul>
      )}
      <Code block mah={320} style={{ overflow: 'auto' }} tabIndex={0} aria-label="What they see">
        {pretty(seen.data.body)}
        {!seen.data.isWhole && '\n… the rest is not shown'}
      </Code>
    </Stack>
  );
}

function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}
