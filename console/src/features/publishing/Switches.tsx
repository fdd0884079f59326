import { Button, Checkbox, Group, NumberInput, Select, Table, TextInput, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { fetchService, fetchServices, type SwitchInfo, switchOff, switchOn } from '../../api/client';
import { Empty, Failed } from '../../components/States';

/** What is switched off, and a form to switch off more. */
export function Switches({ off }: { off: SwitchInfo[] }) {
  const client = useQueryClient();
  const settle = () => client.invalidateQueries({ queryKey: ['publishing'] });
  const on = useMutation({ mutationFn: switchOn, onSettled: settle });
  return (
    <section aria-label="Switches">
      <Title order={3} size="h4" mb="xs">
        Switches
      </Title>
      {off.length === 0 && <Empty>Nothing is switched off.</Empty>}
      {off.length > 0 && (
        <Table verticalSpacing={4} aria-label="Switched off" mb="sm">
          <Table.Tbody>
            {off.map((one) => (
              <Table.Tr key={one.target}>
                <Table.Td fw={600}>{one.target}</Table.Td>
                <Table.Td>{one.isAbsent ? 'as if absent' : `503, come back after ${one.retryAfter} s`}</Table.Td>
                <Table.Td>{one.message}</Table.Td>
                <Table.Td>
                  by {one.by}, {one.at.slice(0, 16).replace('T', ' ')}
                </Table.Td>
                <Table.Td>
                  <Button size="compact-xs" variant="default" loading={on.isPending} onClick={() => on.mutate(one)}>
                    Switch on
                  </Button>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      {on.isError && <Failed error={on.error} />}
      <OffForm settle={settle} />
    </section>
  );
}

function OffForm({ settle }: { settle: () => void }) {
  const services = useQuery({ queryKey: ['services'], queryFn: fetchServices });
  const [service, setService] = useState<string | null>(null);
  const [what, setWhat] = useState<string | null>(null);
  const [message, setMessage] = useState('');
  const [seconds, setSeconds] = useState<string | number>(600);
  const [isAbsent, setAbsent] = useState(false);
  const details = useQuery({
    queryKey: ['service', service],
    queryFn: () => fetchService(service ?? ''),
    enabled: service !== null,
  });
  const sets = details.data?.sets ?? [];
  const groups = [...new Set(sets.map((one) => one.query?.group).filter((group) => group !== undefined))];
  // What is chosen says which kind of thing it is.
  const [kind, name] = what?.split(': ') ?? [];
  const off = useMutation({
    mutationFn: () =>
      switchOff({
        service: service ?? '',
        ...(kind && { [kind]: name }),
        message: message || undefined,
        retryAfter: Number(seconds),
        isAbsent,
      }),
    onSettled: settle,
  });
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        off.mutate();
      }}
    >
      <Group gap="xs" align="end">
        <Select
          label="Service"
          data={services.data?.map((one) => one.name) ?? []}
          value={service}
          onChange={(value) => {
            setService(value);
            setWhat(null);
          }}
          w={150}
        />
        <Select
          label="What of it"
          placeholder="all of it"
          data={[
            { group: 'Faces', items: Object.keys(details.data?.faces ?? {}).map((face) => `face: ${face}`) },
            { group: 'Groups of queries', items: groups.map((group) => `group: ${group}`) },
            { group: 'Sets and queries', items: sets.map((one) => `set: ${one.name}`) },
          ].filter((part) => part.items.length > 0)}
          value={what}
          onChange={setWhat}
          disabled={!details.data}
          clearable
          searchable
          w={220}
        />
        <TextInput
          label="Message to callers"
          value={message}
          maxLength={500}
          disabled={isAbsent}
          onChange={(event) => setMessage(event.currentTarget.value)}
          w={260}
        />
        <NumberInput
          label="Retry after (s)"
          value={seconds}
          min={1}
          max={31536000}
          disabled={isAbsent}
          onChange={setSeconds}
          w={150}
        />
        <Checkbox
          label="As if absent"
          checked={isAbsent}
          onChange={(event) => setAbsent(event.currentTarget.checked)}
          mb={8}
        />
        <Button type="submit" variant="default" disabled={!service} loading={off.isPending}>
          Switch off
        </Button>
      </Group>
      {off.isError && <Failed error={off.error} />}
    </form>
  );
}
