import { Badge, Button, Group, Table, Text, TextInput, Title } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import type { VerificationDetails, VerifiedCheck, VerifiedPart } from '../../api/client';
import { fetchVerification, reportOf } from '../../api/verify';
import { Scroller } from '../../components/Scroller';
import { Failed, Pending } from '../../components/States';

/** What a run found: first what differs from the run before, then the checks by service and caller. */
export function VerifiedRun({ number }: { number: number }) {
  const run = useQuery({ queryKey: ['verification', number], queryFn: () => fetchVerification(number) });
  const [sought, setSought] = useState('');
  if (run.isPending) return <Pending what={`run ${number}`} />;
  if (run.isError) return <Failed error={run.error} retry={run.refetch} />;
  return (
    <section aria-label={`Run ${number}`}>
      <Group justify="space-between" mb="xs">
        <Title order={3} size="h4">
          Run {number}
        </Title>
        <Group gap="sm">
          <TextInput
            size="xs"
            aria-label="Search checks"
            placeholder="Search checks, sets, callers"
            value={sought}
            onChange={(event) => setSought(event.currentTarget.value)}
            w={220}
          />
          <Button size="xs" variant="default" component="a" href={reportOf(number)} target="_blank" rel="noreferrer">
            The report as a page
          </Button>
        </Group>
      </Group>
      <Changes run={run.data} />
      {run.data.parts.map((part) => (
        <Part key={part.title} part={part} sought={sought.trim().toLowerCase()} />
      ))}
    </section>
  );
}

function Changes({ run }: { run: VerificationDetails }) {
  if (run.before === undefined) return null;
  if (run.broken.length === 0 && run.mended.length === 0)
    return (
      <Text size="sm" c="dimmed">
        No check ends in another way than in run {run.before}.
      </Text>
    );
  return (
    <ul className="effects" aria-label={`Differences from run ${run.before}`}>
      {run.broken.map((check) => (
        <li key={check}>
          <b>fails now:</b> {check}
        </li>
      ))}
      {run.mended.map((check) => (
        <li key={check}>passes now: {check}</li>
      ))}
    </ul>
  );
}

const colours = { passed: 'green', failed: 'red', skipped: 'yellow' };
const rank = { failed: 0, skipped: 1, passed: 2 };

function Part({ part, sought }: { part: VerifiedPart; sought: string }) {
  const [isOpen, setOpen] = useState(false);
  const matching = part.checks.filter((check) =>
    `${part.title} ${check.subject} ${check.check} ${check.message}`.toLowerCase().includes(sought),
  );
  const failed = matching.filter((check) => check.outcome !== 'passed');
  if (sought && matching.length === 0) return null;
  const shown = [...(isOpen || sought ? matching : failed)].sort((a, b) => rank[a.outcome] - rank[b.outcome]);
  const count = (outcome: VerifiedCheck['outcome']) => part.checks.filter((check) => check.outcome === outcome).length;
  return (
    <section aria-label={part.title}>
      <Group gap="sm" mt="sm" mb={4}>
        <Text fw={600}>{part.title}</Text>
        <Badge tt="none" variant="light" color={count('failed') > 0 ? 'red' : 'green'}>
          {count('failed') > 0 ? `${count('failed')} failed, ` : ''}
          {count('passed')} passed{count('skipped') > 0 ? `, ${count('skipped')} skipped` : ''}
        </Badge>
        <Text size="sm" c="dimmed">
          {part.seconds.toFixed(1)} s
        </Text>
        <Button size="compact-xs" variant="subtle" aria-expanded={isOpen} onClick={() => setOpen(!isOpen)}>
          {isOpen ? 'Only what did not pass' : 'All checks'}
        </Button>
      </Group>
      {shown.length > 0 && (
        <Scroller label={`Checks of ${part.title}`}>
          <Table verticalSpacing={2}>
            <Table.Tbody>
              {shown.slice(0, 500).map((check, at) => (
                <Table.Tr key={at}>
                  <Table.Td w={100}>
                    <Badge tt="none" variant="light" color={colours[check.outcome]}>
                      {check.outcome}
                    </Badge>
                  </Table.Td>
                  <Table.Td>{check.subject}</Table.Td>
                  <Table.Td>{check.check}</Table.Td>
                  <Table.Td>
                    {check.message}{' '}
                    {check.outcome === 'failed' && check.url && (
                      <Link to={`/compose?${new URLSearchParams({ method: 'GET', target: pathOf(check.url) })}`}>
                        the request
                      </Link>
                    )}
                  </Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </Scroller>
      )}
    </section>
  );
}

/** The request at the service itself: the one that was verified listens no more. */
function pathOf(url: string): string {
  return url.replace(/^https?:\/\/[^/]+/, '');
}
