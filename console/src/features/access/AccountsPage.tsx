import {
  Alert,
  Badge,
  Button,
  Code,
  CopyButton,
  Group,
  MultiSelect,
  NumberInput,
  Paper,
  PasswordInput,
  SegmentedControl,
  Stack,
  Table,
  TagsInput,
  Text,
  TextInput,
  Title,
} from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import {
  type Accounts,
  fetchAccounts,
  fetchServices,
  type KeyInfo,
  makeKey,
  removeUser,
  revokeKey,
  setUser,
} from '../../api/client';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';
import { Secrets } from './Secrets';

/** Who can sign in: users, keys of programs, and administrators. */
export function AccountsPage() {
  const accounts = useQuery({ queryKey: ['accounts'], queryFn: fetchAccounts });
  return (
    <>
      <Heading way={[]} title="Accounts and keys" />
      {accounts.isPending && <Pending what="the accounts" />}
      {accounts.isError && <Failed error={accounts.error} retry={accounts.refetch} />}
      {accounts.data && (
        <Stack gap="lg" maw={1100}>
          <Users accounts={accounts.data} />
          <Keys accounts={accounts.data} />
          <NewAccountForm roles={accounts.data.roles} />
          <Secrets />
          <Text size="sm" c="dimmed">
            {accounts.data.administrators.length === 0
              ? 'There is no administrator: the service is managed through the sign-in link.'
              : `Administrators, made by “gable administrator”: ${accounts.data.administrators
                  .map((one) => `${one.name} (${one.rights.join(', ')})`)
                  .join('; ')}.`}
          </Text>
        </Stack>
      )}
    </>
  );
}

function words(attributes: Record<string, string[]>): string {
  return Object.entries(attributes)
    .map(([name, value]) => `${name}=${value.join('|')}`)
    .join(', ');
}

function day(time: string | undefined, otherwise: string): string {
  return time ? time.slice(0, 16).replace('T', ' ') : otherwise;
}

function Users({ accounts }: { accounts: Accounts }) {
  return (
    <Paper component="section" aria-label="Users">
      <Title order={3} size="h4" mb={4}>
        Users
      </Title>
      {accounts.users.length === 0 ? (
        <Empty>Nobody signs in with a name and a password yet.</Empty>
      ) : (
        <Table verticalSpacing={4}>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>Name</Table.Th>
              <Table.Th>Roles</Table.Th>
              <Table.Th>Attributes</Table.Th>
              <Table.Th>Last use (UTC)</Table.Th>
              <Table.Th />
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {accounts.users.map((user) => (
              <Table.Tr key={user.name}>
                <Table.Td>{user.name}</Table.Td>
                <Table.Td>{user.roles.join(', ')}</Table.Td>
                <Table.Td>{words(user.attributes)}</Table.Td>
                <Table.Td>{day(user.lastUse, 'not noted')}</Table.Td>
                <Table.Td>
                  <TakeBack label={`Remove ${user.name}`} act={() => removeUser(user.name)}>
                    Remove
                  </TakeBack>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
    </Paper>
  );
}

function Keys({ accounts }: { accounts: Accounts }) {
  return (
    <Paper component="section" aria-label="Keys">
      <Title order={3} size="h4" mb={4}>
        Keys
      </Title>
      {accounts.keys.length === 0 ? (
        <Empty>No program has a key yet.</Empty>
      ) : (
        <Table verticalSpacing={4}>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>For</Table.Th>
              <Table.Th>Roles</Table.Th>
              <Table.Th>Attributes</Table.Th>
              <Table.Th>Good for</Table.Th>
              <Table.Th>Last use (UTC)</Table.Th>
              <Table.Th>Taken until</Table.Th>
              <Table.Th />
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {accounts.keys.map((key) => (
              <Table.Tr key={key.id}>
                <Table.Td>
                  {key.name}
                  <Text size="xs" c="dimmed">
                    {key.id}
                  </Text>
                </Table.Td>
                <Table.Td>{key.roles.join(', ')}</Table.Td>
                <Table.Td>{words(key.attributes)}</Table.Td>
                <Table.Td>{goodFor(key)}</Table.Td>
                <Table.Td>{day(key.lastUse, 'not noted')}</Table.Td>
                <Table.Td>
                  {day(key.expires, 'for ever')}
                  {key.expires && new Date(key.expires) <= new Date() && (
                    <Badge ml={6} tt="none" color="red" variant="light">
                      over
                    </Badge>
                  )}
                </Table.Td>
                <Table.Td>
                  <TakeBack label={`Revoke ${key.name} ${key.id}`} act={() => revokeKey(key.id)}>
                    Revoke
                  </TakeBack>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
    </Paper>
  );
}

function goodFor(key: KeyInfo): string {
  if (key.isAdministrator) return `management: ${key.rights?.join(', ')}`;
  const services = key.services?.join(', ') ?? 'all services';
  return key.may ? `${services}: ${key.may.join(', ')}` : services;
}

/** Taking something back is asked twice, on the same button. */
function TakeBack({ label, act, children }: { label: string; act: () => Promise<void>; children: ReactNode }) {
  const client = useQueryClient();
  const [isSure, setIsSure] = useState(false);
  const taking = useMutation({
    mutationFn: act,
    onSettled: () => client.invalidateQueries({ queryKey: ['accounts'] }),
  });
  return (
    <Button
      size="compact-xs"
      variant={isSure ? 'filled' : 'default'}
      color={isSure ? 'red' : undefined}
      aria-label={isSure ? `${label}, really` : label}
      loading={taking.isPending}
      onClick={() => (isSure ? taking.mutate() : setIsSure(true))}
      onBlur={() => setIsSure(false)}
    >
      {isSure ? 'Really?' : children}
    </Button>
  );
}

function NewAccountForm({ roles }: { roles: string[] }) {
  const client = useQueryClient();
  const services = useQuery({ queryKey: ['services'], queryFn: fetchServices });
  const [kind, setKind] = useState('key');
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const [given, setGiven] = useState<string[]>([]);
  const [attributes, setAttributes] = useState<string[]>([]);
  const [goodServices, setGoodServices] = useState<string[]>([]);
  const [may, setMay] = useState<string[]>([]);
  const [days, setDays] = useState<number | string>(90);
  const make = useMutation({
    mutationFn: async () => {
      const account = { name: name.trim(), roles: given, attributes: pairs(attributes) };
      if (kind === 'user') {
        await setUser({ ...account, password });
        return undefined;
      }
      return makeKey({
        ...account,
        services: goodServices.length > 0 ? goodServices : undefined,
        may: may.length > 0 ? may : undefined,
        days: typeof days === 'number' ? days : undefined,
      });
    },
    onSuccess: () => {
      setName('');
      setPassword('');
      void client.invalidateQueries({ queryKey: ['accounts'] });
    },
  });
  return (
    <Paper component="section" aria-label="New account" withBorder p="md">
      <Group justify="space-between" mb="sm">
        <Title order={3} size="h4">
          New
        </Title>
        <SegmentedControl
          aria-label="Kind of account"
          size="xs"
          value={kind}
          onChange={(value) => {
            setKind(value);
            make.reset();
          }}
          data={[
            { value: 'key', label: 'Key of a program' },
            { value: 'user', label: 'User' },
          ]}
        />
      </Group>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          make.mutate();
        }}
      >
        <Group align="flex-end" gap="sm">
          <TextInput
            label={kind === 'key' ? 'What it is for' : 'Name'}
            required
            value={name}
            onChange={(event) => setName(event.currentTarget.value)}
            size="xs"
            w={170}
          />
          {kind === 'user' && (
            <PasswordInput
              label="Password"
              autoComplete="new-password"
              required
              value={password}
              onChange={(event) => setPassword(event.currentTarget.value)}
              size="xs"
              w={170}
            />
          )}
          <TagsInput label="Roles" data={roles} value={given} onChange={setGiven} size="xs" miw={180} maw={320} />
          <TagsInput
            label="Attributes"
            placeholder="region=north"
            value={attributes}
            onChange={setAttributes}
            size="xs"
            miw={180}
            maw={320}
          />
          {kind === 'key' && (
            <>
              <MultiSelect
                label="Services"
                placeholder={goodServices.length === 0 ? 'all' : undefined}
                data={services.data?.map((service) => service.name) ?? []}
                value={goodServices}
                onChange={setGoodServices}
                size="xs"
                miw={140}
              />
              <MultiSelect
                label="Operations"
                placeholder={may.length === 0 ? 'all that the roles may' : undefined}
                data={['read', 'create', 'update', 'delete']}
                value={may}
                onChange={setMay}
                size="xs"
                miw={170}
              />
              <NumberInput label="Days" value={days} onChange={setDays} min={1} max={36_500} size="xs" w={80} />
            </>
          )}
          <Button type="submit" size="xs" loading={make.isPending}>
            {kind === 'key' ? 'Make the key' : 'Set the user'}
          </Button>
        </Group>
      </form>
      {make.isError && <Failed error={make.error} />}
      {make.isSuccess && make.data && <NewKey value={make.data.key} />}
      {make.isSuccess && !make.data && (
        <Text size="sm" mt="sm" role="status">
          The user may sign in.
        </Text>
      )}
    </Paper>
  );
}

function pairs(texts: string[]): Record<string, string[]> {
  const found: Record<string, string[]> = {};
  for (const text of texts) {
    const [name = '', ...value] = text.split('=');
    (found[name] ??= []).push(value.join('='));
  }
  return found;
}

function NewKey({ value }: { value: string }) {
  return (
    <Alert color="cyan" title="The key is shown only now" role="status" mt="sm">
      <Group gap="sm" wrap="nowrap">
        <Code className="address">{value}</Code>
        <CopyButton value={value}>
          {({ copied, copy }) => (
            <Button size="compact-xs" variant="default" onClick={copy}>
              {copied ? 'Copied' : 'Copy'}
            </Button>
          )}
        </CopyButton>
      </Group>
      <Text size="sm" mt={6}>
        A program sends it as “Authorization: Bearer KEY”.
      </Text>
    </Alert>
  );
}
