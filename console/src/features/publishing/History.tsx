import { Badge, Button, Group, Select, Table, Text, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { fetchDifference, goBack, RequestError, type RevisionInfo } from '../../api/client';
import { Empty, Failed, Pending } from '../../components/States';
import { Changes } from './Changes';

/** All revisions: what differs between two of them, and the way back. */
export function History({ revisions }: { revisions: RevisionInfo[] }) {
  const [compared, setCompared] = useState<{ from: number; to: number }>();
  return (
    <section aria-label="History">
      <Title order={3} size="h4" mb="xs">
        History
      </Title>
      {revisions.length === 0 && <Empty>There is no revision yet. Publish the files to make the first one.</Empty>}
      {revisions.length > 0 && (
        <Table.ScrollContainer minWidth={760}>
          <Table verticalSpacing={4} aria-label="Revisions">
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Revision</Table.Th>
                <Table.Th>Published (UTC)</Table.Th>
                <Table.Th>By</Table.Th>
                <Table.Th>Message</Table.Th>
                <Table.Th>Changes</Table.Th>
                <Table.Th>Kept until</Table.Th>
                <Table.Th />
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {revisions.map((revision, index) => (
                <Revision
                  key={revision.number}
                  revision={revision}
                  isNewest={index === 0}
                  compare={() =>
                    setCompared({ from: revisions[index + 1]?.number ?? revision.number, to: revision.number })
                  }
                />
              ))}
            </Table.Tbody>
          </Table>
        </Table.ScrollContainer>
      )}
      {compared && <Difference {...compared} numbers={revisions.map((one) => one.number)} choose={setCompared} />}
    </section>
  );
}

interface DifferenceProps {
  from: number;
  to: number;
  numbers: number[];
  choose: (compared: { from: number; to: number }) => void;
}

/** What differs between two revisions, whichever they are. */
function Difference({ from, to, numbers, choose }: DifferenceProps) {
  const difference = useQuery({
    queryKey: ['publishing', 'difference', from, to],
    queryFn: () => fetchDifference(from, to),
  });
  const select = (label: string, value: number, take: (number: number) => void) => (
    <Select
      size="xs"
      label={label}
      data={numbers.map(String)}
      value={String(value)}
      allowDeselect={false}
      onChange={(text) => text && take(Number(text))}
      w={110}
    />
  );
  return (
    <section aria-label="Differences of two revisions">
      <Group gap="xs" my="xs">
        {select('From revision', from, (number) => choose({ from: number, to }))}
        {select('To revision', to, (number) => choose({ from, to: number }))}
      </Group>
      {difference.isPending && <Pending what="the differences" />}
      {difference.isError && <Failed error={difference.error} retry={difference.refetch} />}
      {difference.data?.services.length === 0 && <Empty>Nothing differs for consumers and callers.</Empty>}
      {difference.data?.services.map((service) => (
        <Changes key={service.name} service={service} isFirst={false} />
      ))}
    </section>
  );
}

interface RevisionProps {
  revision: RevisionInfo;
  isNewest: boolean;
  compare: () => void;
}

function Revision({ revision, isNewest, compare }: RevisionProps) {
  const client = useQueryClient();
  const back = useMutation({
    mutationFn: (isAgreed: boolean) => goBack(revision.number, isAgreed),
    onSettled: () => client.invalidateQueries({ queryKey: ['publishing'] }),
  });
  return (
    <Table.Tr>
      <Table.Td>{revision.number}</Table.Td>
      <Table.Td style={{ whiteSpace: 'nowrap' }}>{revision.at.slice(0, 16).replace('T', ' ')}</Table.Td>
      <Table.Td>{revision.by}</Table.Td>
      <Table.Td>{revision.message}</Table.Td>
      <Table.Td title={revision.changes.join('\n')}>
        <Group gap={4}>
          {revision.backTo !== undefined && <Text size="sm">back to {revision.backTo}</Text>}
          {revision.breaking.length > 0 && (
            <Badge tt="none" color="red" variant="light">
              breaks {revision.breaking.length}
            </Badge>
          )}
          {revision.opened.length > 0 && (
            <Badge tt="none" color="yellow" variant="light">
              opens {revision.opened.length}
            </Badge>
          )}
          <Button
            size="compact-xs"
            variant="subtle"
            aria-label={`Differences of revision ${revision.number}`}
            onClick={compare}
          >
            {revision.changes.length === 1 ? '1 change' : `${revision.changes.length} changes`}
          </Button>
        </Group>
      </Table.Td>
      <Table.Td>{isNewest ? 'it is the newest' : (revision.keptUntil?.slice(0, 10) ?? 'for good')}</Table.Td>
      <Table.Td>
        {!isNewest && (
          <Button size="compact-xs" variant="default" loading={back.isPending} onClick={() => back.mutate(false)}>
            Go back to {revision.number}
          </Button>
        )}
        {back.isError && (
          <>
            <Failed error={back.error} />
            {back.error instanceof RequestError && back.error.status === 409 && (
              <Button size="compact-xs" color="red" variant="light" onClick={() => back.mutate(true)}>
                Agree, and go back
              </Button>
            )}
          </>
        )}
      </Table.Td>
    </Table.Tr>
  );
}
