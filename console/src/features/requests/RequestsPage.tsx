import { Badge, Button, Checkbox, Code, Group, Stack, Table, Text, Title } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useSearchParams } from 'react-router';
import {
  fetchRequests,
  keepExample,
  type KeptRequestInfo,
  type KeptRequestOutcome,
  tryRequests,
} from '../../api/client';
import { CallerSelect, nobody } from '../../components/CallerSelect';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';

const asKept = 'as they say';

/** A choice of the list of callers as the management interface takes it; missing = each request's own. */
function callerOf(who: string): string | undefined {
  if (who === asKept) return undefined;
  if (who === nobody) return 'anonymous';
  return who.startsWith('user ') ? who.slice(5) : who;
}

/** The requests that the workspace keeps: send them as somebody, see what comes back, keep an answer as an example. */
export function RequestsPage() {
  const requests = useQuery({ queryKey: ['requests'], queryFn: fetchRequests });
  return (
    <>
      <Heading way={[]} title="Requests" />
      {requests.isPending && <Pending what="the requests" />}
      {requests.isError && <Failed error={requests.error} retry={requests.refetch} />}
      {requests.data?.length === 0 && (
        <Empty>The workspace keeps no requests. Write them into files such as requests/stations.http.</Empty>
      )}
      {requests.data && requests.data.length > 0 && <Requests all={requests.data} />}
    </>
  );
}

function Requests({ all }: { all: KeptRequestInfo[] }) {
  const [params, setParams] = useSearchParams();
  const [who, setWho] = useState(asKept);
  const [outcomes, setOutcomes] = useState<Record<string, KeptRequestOutcome>>({});
  const chosen = all.find((request) => request.name === params.get('name')) ?? all[0];
  const send = useMutation({
    mutationFn: ({ names, writes, real }: { names: string[]; writes: boolean; real?: boolean }) =>
      tryRequests({ names, as: callerOf(who), writes, real }),
    onSuccess: (sent) =>
      setOutcomes((before) => ({ ...before, ...Object.fromEntries(sent.map((one) => [one.name, one])) })),
  });
  const roles = [...new Set(all.flatMap((request) => request.as?.split(',') ?? []))];
  return (
    <Stack gap="md">
      <Group align="end" gap="xs">
        <CallerSelect callers={[asKept, nobody, ...roles]} who={who} onChange={setWho} />
        <Button
          size="xs"
          loading={send.isPending}
          onClick={() => send.mutate({ names: all.map((request) => request.name), writes: false })}
        >
          Send all that read
        </Button>
      </Group>
      {send.isError && <Failed error={send.error} />}
      <Table.ScrollContainer minWidth={720}>
        <Table verticalSpacing={4} aria-label="Kept requests" highlightOnHover>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>Request</Table.Th>
              <Table.Th>Address</Table.Th>
              <Table.Th>As</Table.Th>
              <Table.Th>Answer</Table.Th>
              <Table.Th>In</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {all.map((request) => (
              <Table.Tr key={request.name} bg={request === chosen ? 'var(--mantine-color-default-hover)' : undefined}>
                <Table.Td>
                  <Button
                    variant="subtle"
                    size="compact-sm"
                    aria-pressed={request === chosen}
                    onClick={() => setParams({ name: request.name })}
                  >
                    {request.name}
                  </Button>
                </Table.Td>
                <Table.Td>
                  <span className="address">
                    {request.method} {request.target}
                  </span>
                </Table.Td>
                <Table.Td>{request.as ?? 'anonymous'}</Table.Td>
                <Table.Td>
                  <Verdict outcome={outcomes[request.name]} />
                </Table.Td>
                <Table.Td>
                  <Text size="sm" c="dimmed">
                    {request.file}:{request.line}
                  </Text>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </Table.ScrollContainer>
      {chosen && (
        <Chosen
          key={chosen.name}
          request={chosen}
          outcome={outcomes[chosen.name]}
          isSending={send.isPending}
          send={(real) => send.mutate({ names: [chosen.name], writes: true, real })}
        />
      )}
    </Stack>
  );
}

function Verdict({ outcome }: { outcome: KeptRequestOutcome | undefined }) {
  if (!outcome) return null;
  if (outcome.skipped)
    return (
      <Badge tt="none" variant="light" color="gray">
        not sent
      </Badge>
    );
  return (
    <Group gap={6} wrap="nowrap">
      <Badge tt="none" variant="light" color={outcome.isGood ? 'green' : 'red'} style={{ flexShrink: 0 }}>
        {outcome.isGood ? 'ok' : 'fails'}
      </Badge>
      <Text size="sm" style={{ whiteSpace: 'nowrap' }}>
        {outcome.status === 0 ? 'no answer' : outcome.status}, {outcome.milliseconds} ms
      </Text>
    </Group>
  );
}

function Chosen(props: {
  request: KeptRequestInfo;
  outcome: KeptRequestOutcome | undefined;
  isSending: boolean;
  send: (real: boolean) => void;
}) {
  const { request, outcome } = props;
  const faults = outcome?.expectations ?? request.expectations.map((expected) => ({ expected, fault: undefined }));
  return (
    <section aria-label={`Request ${request.name}`}>
      <Group justify="space-between" mb="xs">
        <Title order={3} size="h4">
          {request.title ?? request.name}
        </Title>
        <Group gap="xs">
          {!request.changes && <Keep request={request} />}
          <Button size="xs" loading={props.isSending} onClick={() => props.send(false)}>
            {request.changes ? 'Try, and undo' : 'Send'}
          </Button>
          {request.changes && (
            <Button size="xs" loading={props.isSending} onClick={() => props.send(true)} color="red">
              Send, and change data
            </Button>
          )}
        </Group>
      </Group>
      <Code block>{[`${request.method} ${request.target}`, request.body].filter(Boolean).join('\n\n')}</Code>
      {faults.length > 0 && (
        <Table verticalSpacing={2} mt="xs" aria-label="Expectations" w="auto">
          <Table.Tbody>
            {faults.map(({ expected, fault }) => (
              <Table.Tr key={expected}>
                <Table.Td>
                  <Text size="sm" c={fault ? 'red' : 'dimmed'}>
                    {!outcome || outcome.skipped ? 'expects' : fault ? 'fails' : 'holds'}
                  </Text>
                </Table.Td>
                <Table.Td>
                  <Code>{expected}</Code>
                </Table.Td>
                <Table.Td>
                  <Text size="sm">{fault}</Text>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      {outcome?.status !== undefined && <Answer outcome={outcome} />}
    </section>
  );
}

function Answer({ outcome }: { outcome: KeptRequestOutcome }) {
  const [isWhole, setWhole] = useState(false);
  return (
    <Stack gap="xs" mt="sm">
      <Group gap="xs">
        <Text fw={600} size="sm">
          {outcome.status} as {outcome.caller}, in {outcome.milliseconds} ms
        </Text>
        <Checkbox
          size="xs"
          label="Show headers"
          checked={isWhole}
          onChange={(event) => setWhole(event.currentTarget.checked)}
        />
      </Group>
      {isWhole && (
        <Code block aria-label="Headers">
          {Object.entries(outcome.headers ?? {})
            .map(([name, value]) => `${name}: ${value}`)
            .join('\n')}
        </Code>
      )}
      <Code block aria-label="Answer" tabIndex={0} mah={420} style={{ overflow: 'auto' }}>
        {readable(outcome.body ?? '')}
        {outcome.isCut && '\n… and more'}
      </Code>
    </Stack>
  );
}

/** JSON with line ends, where it can be read; numbers stay as they came. */
function readable(text: string): string {
  if (!/^[[{]/.test(text) || /\d{16}/.test(text)) return text;
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}

function Keep({ request }: { request: KeptRequestInfo }) {
  const [madeUp, setMadeUp] = useState(true);
  const keep = useMutation({ mutationFn: () => keepExample({ name: request.name, madeUp }) });
  return (
    <>
      {keep.isSuccess && <Text size="sm">Kept in {keep.data.file}</Text>}
      {keep.isError && (
        <Text size="sm" c="red">
          {keep.error.message}
        </Text>
      )}
      <Checkbox
        size="xs"
        label="with made-up values"
        checked={madeUp}
        onChange={(event) => setMadeUp(event.currentTarget.checked)}
      />
      <Button size="xs" variant="default" loading={keep.isPending} onClick={() => keep.mutate()}>
        {request.hasExample ? 'Keep anew as example' : 'Keep as example'}
      </Button>
    </>
  );
}
