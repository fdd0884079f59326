import { Button, Group, Paper, PasswordInput, Table, Text, TextInput, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { fetchSecrets, removeSecret, setSecret } from '../../api/client';
import { Empty, Failed } from '../../components/States';

/** Secrets that source files name: they are typed in, and never shown again. */
export function Secrets() {
  const client = useQueryClient();
  const secrets = useQuery({ queryKey: ['secrets'], queryFn: fetchSecrets });
  const [name, setName] = useState('');
  const [value, setValue] = useState('');
  const settle = () => client.invalidateQueries({ queryKey: ['secrets'] });
  const set = useMutation({
    mutationFn: () => setSecret(name, value),
    onSuccess: () => {
      setName('');
      setValue('');
    },
    onSettled: settle,
  });
  const remove = useMutation({ mutationFn: removeSecret, onSettled: settle });
  return (
    <Paper component="section" aria-label="Secrets">
      <Title order={3} size="h4" mb={4}>
        Secrets of sources
      </Title>
      <Text size="sm" c="dimmed">
        A source file names one as {'${NAME}'}. They are kept encrypted, and nobody sees them again.
      </Text>
      {secrets.isError && <Failed error={secrets.error} retry={secrets.refetch} />}
      {secrets.data?.length === 0 && <Empty>No secret is kept.</Empty>}
      {secrets.data && secrets.data.length > 0 && (
        <Table verticalSpacing={4} aria-label="Kept secrets" my="xs">
          <Table.Tbody>
            {secrets.data.map((secret) => (
              <Table.Tr key={secret.name}>
                <Table.Td fw={600}>{secret.name}</Table.Td>
                <Table.Td>{secret.usedBy.length > 0 ? secret.usedBy.join(', ') : 'not used'}</Table.Td>
                <Table.Td>
                  <Button
                    size="compact-xs"
                    variant="default"
                    aria-label={`Remove ${secret.name}`}
                    loading={remove.isPending}
                    onClick={() => remove.mutate(secret.name)}
                  >
                    Remove
                  </Button>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      {remove.isError && <Failed error={remove.error} />}
      <form
        onSubmit={(event) => {
          event.preventDefault();
          set.mutate();
        }}
      >
        <Group gap="xs" align="end">
          <TextInput
            size="xs"
            label="Variable"
            placeholder="ARCHIVE_PASSWORD"
            value={name}
            onChange={(event) => setName(event.currentTarget.value.trim())}
          />
          <PasswordInput
            size="xs"
            w={220}
            label="Secret"
            autoComplete="off"
            value={value}
            onChange={(event) => setValue(event.currentTarget.value)}
          />
          <Button size="xs" type="submit" variant="default" disabled={!name || !value} loading={set.isPending}>
            Keep secret
          </Button>
        </Group>
      </form>
      {set.isError && <Failed error={set.error} />}
    </Paper>
  );
}
