import {
  Alert,
  Anchor,
  Badge,
  Button,
  Checkbox,
  Group,
  Loader,
  MultiSelect,
  NumberInput,
  Paper,
  Stack,
  Table,
  Text,
} from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { fetchServices, type VerificationState, type VerificationSummary } from '../../api/client';
import { cancelVerification, fetchVerifications, startVerification } from '../../api/verify';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';
import { VerifiedRun } from './VerifiedRun';

const whileRunning = 700;

/** Proves the services of the draft by requests, shows how far it is, and keeps what former runs found. */
export function VerifyPage() {
  const client = useQueryClient();
  const [search] = useSearchParams();
  const runs = useQuery({
    queryKey: ['verifications'],
    queryFn: fetchVerifications,
    refetchInterval: (query) => (query.state.data?.current?.isRunning ? whileRunning : false),
  });
  const current = runs.data?.current;
  const isRunning = current?.isRunning ?? false;
  // What a run found is looked at when it ends.
  useEffect(() => {
    if (!isRunning) void client.invalidateQueries({ queryKey: ['verification'] });
  }, [isRunning, client]);
  if (runs.isPending) return <Pending what="the verifications" />;
  if (runs.isError) return <Failed error={runs.error} retry={runs.refetch} />;
  const chosen = Number(search.get('run')) || (isRunning ? undefined : runs.data.former[0]?.number);
  return (
    <>
      <Heading way={[]} title="Verify" />
      <Stack gap="md">
        <Start isRunning={isRunning} started={() => client.invalidateQueries({ queryKey: ['verifications'] })} />
        {current && (current.isRunning || current.failure) && <Progress run={current} />}
        {(runs.data.former.length > 0 || !isRunning) && <Former runs={runs.data.former} chosen={chosen} />}
        {chosen !== undefined && <VerifiedRun number={chosen} />}
      </Stack>
    </>
  );
}

function Start({ isRunning, started }: { isRunning: boolean; started: () => Promise<unknown> }) {
  const services = useQuery({ queryKey: ['services'], queryFn: fetchServices });
  const [, setSearch] = useSearchParams();
  const [chosen, setChosen] = useState<string[]>([]);
  const [rows, setRows] = useState<number | string>(10_000);
  const [access, setAccess] = useState(true);
  const start = useMutation({
    mutationFn: () => startVerification(chosen, Number(rows) || 1, access),
    onSuccess: () => {
      setSearch({}, { replace: true });
      return started();
    },
  });
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        start.mutate();
      }}
    >
      <Group align="end" gap="sm">
        <MultiSelect
          size="sm"
          label="Services"
          placeholder={chosen.length === 0 ? 'all, with the kept requests' : undefined}
          data={services.data?.map((service) => service.name) ?? []}
          value={chosen}
          onChange={setChosen}
          miw={280}
        />
        <NumberInput
          size="sm"
          label="Rows of a set at most"
          min={1}
          max={10_000_000}
          thousandSeparator=" "
          value={rows}
          onChange={setRows}
          w={170}
        />
        <Checkbox
          label="Also try who may do what"
          checked={access}
          onChange={(event) => setAccess(event.currentTarget.checked)}
          mb={8}
        />
        <Button type="submit" loading={start.isPending} disabled={isRunning}>
          Verify
        </Button>
      </Group>
      {start.isError && <Failed error={start.error} />}
    </form>
  );
}

function Progress({ run }: { run: VerificationState }) {
  const client = useQueryClient();
  const cancel = useMutation({
    mutationFn: cancelVerification,
    onSettled: () => client.invalidateQueries({ queryKey: ['verifications'] }),
  });
  if (run.failure)
    return (
      <Alert color="yellow" title="The last run ended without a report" role="alert">
        {run.failure}
      </Alert>
    );
  return (
    <Paper component="section" aria-label="Verification that is running" aria-live="polite">
      <Group gap="sm">
        <Loader size="sm" />
        <Text size="sm">
          {run.part || 'Starting'}
          {run.detail && <bdi> ({run.detail})</bdi>}. Parts done: {run.done.length}.
        </Text>
        <Button size="xs" variant="default" loading={cancel.isPending} onClick={() => cancel.mutate()}>
          Cancel
        </Button>
      </Group>
    </Paper>
  );
}

function Former({ runs, chosen }: { runs: VerificationSummary[]; chosen?: number }) {
  if (runs.length === 0) return <Empty>Nothing was verified yet. Start a run; it changes nothing.</Empty>;
  return (
    <Table.ScrollContainer minWidth={480}>
      <Table verticalSpacing={3} aria-label="Verifications" maw={860}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Run</Table.Th>
            <Table.Th>Started</Table.Th>
            <Table.Th>By</Table.Th>
            <Table.Th>Services</Table.Th>
            <Table.Th className="number">Passed</Table.Th>
            <Table.Th className="number">Failed</Table.Th>
            <Table.Th className="number">Skipped</Table.Th>
            <Table.Th className="number">Seconds</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {runs.map((run) => (
            <Table.Tr key={run.number} data-current={run.number === chosen || undefined}>
              <Table.Td>
                <Anchor component={Link} to={`?run=${run.number}`} replace fw={run.number === chosen ? 700 : 400}>
                  {run.number}
                </Anchor>
              </Table.Td>
              <Table.Td title={run.at}>{new Date(run.at).toLocaleString()}</Table.Td>
              <Table.Td>{run.by}</Table.Td>
              <Table.Td>{run.services.length > 0 ? run.services.join(', ') : 'all'}</Table.Td>
              <Table.Td className="number">{run.passed.toLocaleString()}</Table.Td>
              <Table.Td className="number">
                {run.failed > 0 ? (
                  <Badge tt="none" color="red" variant="light">
                    {run.failed} failed
                  </Badge>
                ) : (
                  0
                )}
              </Table.Td>
              <Table.Td className="number">{run.skipped}</Table.Td>
              <Table.Td className="number">{run.seconds.toFixed(1)}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Table.ScrollContainer>
  );
}
