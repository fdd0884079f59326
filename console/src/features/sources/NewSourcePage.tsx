import {
  Alert,
  Autocomplete,
  Button,
  Checkbox,
  Code,
  Grid,
  Group,
  PasswordInput,
  SegmentedControl,
  Select,
  SimpleGrid,
  Stack,
  Switch,
  Table,
  Text,
  TextInput,
} from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { type ConnectAnswer, type SchemaCount, setSecret } from '../../api/client';
import { connectSource, editText, fetchDatabases, fetchDraft, writeDraft } from '../../api/draft';
import { Heading } from '../../components/Heading';
import { Failed } from '../../components/States';
import {
  editsOf,
  emptySource,
  type Engine,
  missingIn,
  type SecretWay,
  type SourceFields,
  variableOf,
} from './sourceText';

/** A new database: its settings, a try, and what of it is on offer. */
export function NewSourcePage() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [fields, setFields] = useState<SourceFields>(emptySource);
  const [password, setPassword] = useState('');
  const draft = useQuery({ queryKey: ['draft'], queryFn: fetchDraft });
  const around = useQuery({ queryKey: ['draft', 'databases'], queryFn: fetchDatabases });
  const whole = { ...fields, variable: fields.variable || (fields.name && variableOf(fields.name)) };
  const [settled] = useDebouncedValue(JSON.stringify(editsOf(whole)), 200);
  const text = useQuery({
    queryKey: ['draft', 'source-text', settled],
    queryFn: () => editText('', JSON.parse(settled)),
    placeholderData: (former: string | undefined) => former,
  });
  const secrets = fields.way === 'kept' && password ? { [whole.variable]: password } : {};
  const test = useMutation({
    mutationFn: async () => connectSource(fields.name, await editText('', editsOf(whole)), secrets),
    // What is there is what can be chosen from.
    onSuccess: () => setFields((now) => ({ ...now, schemas: null, kinds: null })),
  });
  const file = `sources/${fields.name}.yaml`;
  const isTaken = draft.data?.files.some((one) => one.file === file) ?? false;
  const write = useMutation({
    mutationFn: async () => {
      if (fields.way === 'kept' && password) await setSecret(whole.variable, password);
      return writeDraft(file, await editText('', editsOf(whole)), undefined);
    },
    onSuccess: async () => {
      await client.invalidateQueries();
      await navigate(`/sources?${new URLSearchParams({ source: fields.name })}`);
    },
  });
  const put = (part: Partial<SourceFields>) => {
    setFields({ ...fields, ...part });
    if (!('schemas' in part) && !('kinds' in part)) test.reset();
  };
  const missing = isTaken ? `There is a source ${fields.name} already.` : missingIn(fields);
  return (
    <>
      <Heading way={[{ label: 'Sources', to: '/sources' }]} title="Connect a database" />
      <Grid gap="lg">
        <Grid.Col span={{ base: 12, md: 7 }}>
          <form
            onSubmit={(event) => {
              event.preventDefault();
              test.mutate();
            }}
          >
            <Stack gap="sm">
              <SegmentedControl
                size="sm"
                aria-label="Engine"
                data={[
                  { value: 'postgresql', label: 'PostgreSQL' },
                  { value: 'mariadb', label: 'MariaDB, MySQL' },
                  { value: 'sqlite', label: 'SQLite file' },
                ]}
                value={fields.engine}
                onChange={(engine) => put({ engine: engine as Engine })}
              />
              <SimpleGrid cols={{ base: 1, sm: 2 }} spacing="sm" verticalSpacing="xs">
                <Field label="Name" value={fields.name} put={(name) => put({ name })} placeholder="network" isFirst />
                <Field label="Title" value={fields.title} put={(title) => put({ title })} placeholder="for people" />
              </SimpleGrid>
              {fields.engine === 'sqlite' ? (
                <Autocomplete
                  size="sm"
                  label="Database file"
                  description="Relative to the workspace"
                  data={around.data?.files ?? []}
                  value={fields.file}
                  onChange={(one) => put({ file: one })}
                />
              ) : (
                <ServerFields fields={fields} put={put} />
              )}
              {fields.engine !== 'sqlite' && (
                <PasswordFields
                  fields={whole}
                  put={put}
                  password={password}
                  setPassword={(value) => {
                    setPassword(value);
                    test.reset();
                  }}
                  keepsSecrets={around.data?.keepsSecrets ?? false}
                />
              )}
              <Field
                label="Description"
                value={fields.description}
                put={(description) => put({ description })}
                placeholder="what it holds"
              />
              <Switch
                size="sm"
                label="Services may change its rows, where they allow it"
                checked={fields.isWritable}
                onChange={(event) => put({ isWritable: event.currentTarget.checked })}
              />
              <Group gap="sm">
                <Button type="submit" variant="default" disabled={!!missing} loading={test.isPending}>
                  Test
                </Button>
                <Button
                  disabled={!!missing || !test.data?.ok || draft.data?.isEditable === false}
                  loading={write.isPending}
                  onClick={() => write.mutate()}
                >
                  Connect
                </Button>
                <Text size="sm" c="dimmed">
                  {missing ?? (test.data ? '' : 'Test it first.')}
                  {draft.data?.isEditable === false && draft.data.why}
                </Text>
              </Group>
              {test.isError && <Failed error={test.error} />}
              {write.isError && <Failed error={write.error} />}
              {test.data && <Outcome answer={test.data} fields={fields} put={put} />}
            </Stack>
          </form>
        </Grid.Col>
        <Grid.Col span={{ base: 12, md: 5 }}>
          <Text size="sm" fw={600} mb={4}>
            {fields.name ? file : 'The file that is written'}
          </Text>
          <Code block aria-label="Text of the new source">
            {text.data ?? ''}
          </Code>
        </Grid.Col>
      </Grid>
    </>
  );
}

interface FieldProps {
  label: string;
  value: string;
  put: (value: string) => void;
  placeholder?: string;
  isFirst?: boolean;
}

function Field({ label, value, put, placeholder, isFirst }: FieldProps) {
  return (
    <TextInput
      size="sm"
      label={label}
      placeholder={placeholder}
      value={value}
      data-autofocus={isFirst}
      onChange={(event) => put(event.currentTarget.value)}
    />
  );
}

interface PartProps {
  fields: SourceFields;
  put: (part: Partial<SourceFields>) => void;
}

function ServerFields({ fields, put }: PartProps) {
  const port = fields.engine === 'mariadb' ? '3306' : '5432';
  return (
    <>
      <Switch
        size="sm"
        label="By a connection string"
        checked={fields.hasConnection}
        onChange={(event) => put({ hasConnection: event.currentTarget.checked })}
      />
      {fields.hasConnection ? (
        <Field
          label="Connection string, without the password"
          value={fields.connection}
          put={(connection) => put({ connection })}
          placeholder={`${fields.engine}://user@127.0.0.1/water`}
        />
      ) : (
        <SimpleGrid cols={{ base: 1, sm: 2 }} spacing="sm" verticalSpacing="xs">
          <Field label="Host" value={fields.host} put={(host) => put({ host })} />
          <Field label="Port" value={fields.port} put={(value) => put({ port: value })} placeholder={port} />
          <Field label="Database" value={fields.database} put={(database) => put({ database })} />
          <Field label="User" value={fields.user} put={(user) => put({ user })} />
        </SimpleGrid>
      )}
      <Select
        size="sm"
        label="TLS"
        placeholder="prefer"
        data={['off', 'prefer', 'require', 'verify']}
        clearable
        value={fields.tls || null}
        onChange={(tls) => put({ tls: tls ?? '' })}
        w={220}
      />
    </>
  );
}

interface PasswordFieldsProps extends PartProps {
  password: string;
  setPassword: (value: string) => void;
  keepsSecrets: boolean;
}

/** The password is named by the file and stands somewhere else. */
function PasswordFields({ fields, put, password, setPassword, keepsSecrets }: PasswordFieldsProps) {
  return (
    <Group align="end" gap="sm">
      <Select
        size="sm"
        label="Password"
        data={[
          { value: 'variable', label: 'in a variable of the environment' },
          { value: 'kept', label: 'kept here, encrypted', disabled: !keepsSecrets },
          { value: 'none', label: 'none' },
        ]}
        description={keepsSecrets ? undefined : 'Set GABLE_SECRETS_KEY to keep secrets here.'}
        allowDeselect={false}
        value={fields.way}
        onChange={(way) => put({ way: way as SecretWay })}
        w={250}
      />
      {fields.way !== 'none' && (
        <Field
          label={fields.way === 'kept' ? 'Name of the secret' : 'Variable'}
          value={fields.variable}
          put={(variable) => put({ variable })}
        />
      )}
      {fields.way === 'kept' && (
        <PasswordInput
          size="sm"
          label="Its value"
          autoComplete="new-password"
          value={password}
          onChange={(event) => setPassword(event.currentTarget.value)}
          w={180}
        />
      )}
    </Group>
  );
}

const plural = (count: number, kind: string) => `${count.toLocaleString()} ${kind}${count === 1 ? '' : 's'}`;

/** What a try gave, and what of it is to be on offer. */
function Outcome({ answer, fields, put }: PartProps & { answer: ConnectAnswer }) {
  if (!answer.ok)
    return (
      <Alert color="red" title="It cannot be used like this" role="alert">
        {answer.failure && <Text size="sm">{answer.failure}</Text>}
        {answer.faults.map((fault) => (
          <Text key={fault.message} size="sm">
            {fault.message} {fault.advice}
          </Text>
        ))}
      </Alert>
    );
  const schemas = [...new Set(answer.counts.flatMap((count) => count.schema ?? []))];
  const kinds = [...new Set(answer.counts.map((count) => count.kind))];
  const isOn = (count: SchemaCount) =>
    (!fields.schemas || !count.schema || fields.schemas.includes(count.schema)) &&
    (!fields.kinds || fields.kinds.includes(count.kind));
  const total = answer.counts.filter(isOn).reduce((sum, count) => sum + count.count, 0);
  const choose = (all: string[], now: string[] | null, one: string, isChosen: boolean) => {
    const next = all.filter((name) => (name === one ? isChosen : (now ?? all).includes(name)));
    return next.length === all.length ? null : next;
  };
  return (
    <Alert color="green" title={`Connected to ${answer.address}`} role="status">
      <Text size="sm" mb="xs">
        {plural(total, 'object')} on offer, read in {Math.round(answer.milliseconds)} ms.
      </Text>
      <Table verticalSpacing={2} w="auto" aria-label="What is on offer">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>{schemas.length > 0 ? 'Schema' : ''}</Table.Th>
            {kinds.map((kind) => (
              <Table.Th key={kind}>
                <Checkbox
                  size="xs"
                  label={`${kind}s`}
                  checked={!fields.kinds || fields.kinds.includes(kind)}
                  onChange={(event) => put({ kinds: choose(kinds, fields.kinds, kind, event.currentTarget.checked) })}
                />
              </Table.Th>
            ))}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {(schemas.length > 0 ? schemas : [undefined]).map((schema) => (
            <Table.Tr key={schema ?? ''}>
              <Table.Td>
                {schema !== undefined && (
                  <Checkbox
                    size="xs"
                    label={schema}
                    checked={!fields.schemas || fields.schemas.includes(schema)}
                    onChange={(event) =>
                      put({ schemas: choose(schemas, fields.schemas, schema, event.currentTarget.checked) })
                    }
                  />
                )}
              </Table.Td>
              {kinds.map((kind) => (
                <Table.Td key={kind} className="number">
                  {answer.counts.find((count) => count.schema === schema && count.kind === kind)?.count ?? 0}
                </Table.Td>
              ))}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Alert>
  );
}
