import { Badge, Button, Group, Select, Table, Text } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { type AuditEvent, fetchAudit } from '../../api/client';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';

const kinds = ['sign-in', 'sign-in-refused', 'refused', 'limited', 'management', 'lost'];

/** Who signed in, was refused, and changed something; the newest first. */
export function AuditPage() {
  const [kind, setKind] = useState<string | null>(null);
  const audit = useQuery({ queryKey: ['audit', kind], queryFn: () => fetchAudit(kind) });
  return (
    <>
      <Heading way={[]} title="Audit log">
        <Group gap="xs">
          <Select
            aria-label="Kind of event"
            placeholder="all events"
            data={kinds}
            value={kind}
            onChange={setKind}
            clearable
            size="xs"
            w={170}
          />
          <Button size="xs" variant="default" loading={audit.isFetching} onClick={() => void audit.refetch()}>
            Look again
          </Button>
        </Group>
      </Heading>
      {audit.isPending && <Pending what="the audit log" />}
      {audit.isError && <Failed error={audit.error} retry={audit.refetch} />}
      {audit.data && !audit.data.isKept && <Empty>The workspace keeps no audit log.</Empty>}
      {audit.data?.isKept && audit.data.events.length === 0 && <Empty>Nothing of that kind is noted.</Empty>}
      {audit.data && audit.data.events.length > 0 && <Events events={audit.data.events} />}
    </>
  );
}

function Events({ events }: { events: AuditEvent[] }) {
  return (
    <Table.ScrollContainer minWidth={900}>
      <Table verticalSpacing={4} aria-label="Events">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Time (UTC)</Table.Th>
            <Table.Th>Event</Table.Th>
            <Table.Th>Caller</Table.Th>
            <Table.Th>From</Table.Th>
            <Table.Th>Request</Table.Th>
            <Table.Th>What</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {events.map((event, index) => (
            <Table.Tr key={`${event.time} ${index}`}>
              <Table.Td style={{ whiteSpace: 'nowrap' }}>{event.time.slice(0, 19).replace('T', ' ')}</Table.Td>
              <Table.Td>
                <Badge
                  tt="none"
                  variant="light"
                  miw="max-content"
                  color={event.event === 'sign-in' || event.event === 'management' ? 'cyan' : 'red'}
                >
                  {event.event}
                </Badge>
              </Table.Td>
              <Table.Td>{event.caller ?? '–'}</Table.Td>
              <Table.Td>{event.address ?? '–'}</Table.Td>
              <Table.Td className="address" miw={230}>
                {[event.method, event.path].filter(Boolean).join(' ')}
              </Table.Td>
              <Table.Td>
                <Text size="sm">
                  {[
                    event.by && `by ${event.by}`,
                    event.status,
                    event.code,
                    event.detail,
                    event.count && event.event !== 'lost' && `and ${event.count} like it`,
                  ]
                    .filter(Boolean)
                    .join(', ')}
                </Text>
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Table.ScrollContainer>
  );
}
