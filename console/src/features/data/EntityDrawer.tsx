import { Alert, Button, Drawer, Group, Stack, Table, Text } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import {
  changeEntity,
  createEntity,
  deleteEntity,
  type Entity,
  fetchAllowed,
  fetchEntity,
  odataOf,
  RequestError,
  type ServiceDetails,
  type SetInfo,
  type TaggedEntity,
} from '../../api/client';
import { bodyOf, entityUrl, faultOf, type Field, fieldsOf, textsOf } from '../../api/entity';
import { FieldInput } from './FieldInput';
import { Failed, Pending } from '../../components/States';

interface DrawerProps {
  service: ServiceDetails;
  set: SetInfo;
  /** The row that is edited; undefined = a new one. */
  row?: Entity;
  close: () => void;
}

/** A new entity, or one that is there as it is now: the page may be older. */
export function EntityDrawer({ service, set, row, close }: DrawerProps) {
  const url = row && entityUrl(odataOf(service), set, row);
  const current = useQuery({
    queryKey: ['entity', url],
    queryFn: async () => (url ? { ...(await fetchEntity(url)), may: await fetchAllowed(url) } : null),
    enabled: url !== undefined,
    gcTime: 0,
    staleTime: Infinity,
  });
  return (
    <Drawer
      opened
      onClose={close}
      position="right"
      size="lg"
      title={row ? `${set.name} ${set.key.map((k) => String(row[k])).join(', ')}` : `New in ${set.name}`}
      closeButtonProps={{ 'aria-label': 'Close' }}
    >
      {url === undefined && <Editor service={service} set={set} close={close} may={['POST']} />}
      {url !== undefined && current.isPending && <Pending what="the entity" />}
      {current.isError && <Failed error={current.error} retry={current.refetch} />}
      {current.data && (
        <Editor service={service} set={set} url={url} start={current.data} may={current.data.may} close={close} />
      )}
    </Drawer>
  );
}

interface EditorProps {
  service: ServiceDetails;
  set: SetInfo;
  url?: string;
  start?: TaggedEntity;
  may: string[];
  close: () => void;
}

function Editor({ service, set, url, start, may, close }: EditorProps) {
  const isNew = url === undefined;
  const mayChange = isNew || may.includes('PATCH');
  const fields = fieldsOf(set, isNew);
  const [base, setBase] = useState(start);
  const before = textsOf(base?.entity ?? {}, fields);
  const [texts, setTexts] = useState(before);
  const [touched, setTouched] = useState<Set<string>>(new Set());
  const [theirs, setTheirs] = useState<TaggedEntity>();
  const client = useQueryClient();
  const done = async () => {
    await client.invalidateQueries({ queryKey: ['page'] });
    close();
  };
  const write = useMutation({
    mutationFn: (tag: string | undefined) => {
      const body = bodyOf(fields, texts, before, isNew);
      return isNew ? createEntity(odataOf(service) + encodeURIComponent(set.name), body) : changeEntity(url, body, tag);
    },
    onSuccess: done,
    onError: async (error) => {
      // Somebody else was faster: both versions are shown, and people decide.
      if (error instanceof RequestError && error.status === 412 && url) setTheirs(await fetchEntity(url));
    },
  });
  const faults = write.error instanceof RequestError ? write.error.faults : [];
  const faultAt = (field: Field) =>
    (touched.has(field.path) ? faultOf(field, texts[field.path] ?? '', isNew) : undefined) ??
    faults.find((f) => f.target === field.path)?.message;
  const elsewhere = faults.filter((f) => !fields.some((field) => field.path === f.target));
  const change = (path: string, text: string) => {
    setTexts({ ...texts, [path]: text });
    setTouched(new Set([...touched, path]));
    if (write.isError) write.reset();
  };

  return (
    <form
      noValidate
      onSubmit={(event) => {
        event.preventDefault();
        setTouched(new Set(fields.map((f) => f.path)));
        if (fields.every((f) => faultOf(f, texts[f.path] ?? '', isNew) === undefined)) write.mutate(base?.tag);
      }}
    >
      <Stack gap="sm">
        {theirs && (
          <Conflict
            fields={fields}
            before={before}
            mine={texts}
            theirs={textsOf(theirs.entity, fields)}
            takeTheirs={() => {
              setBase(theirs);
              setTexts(textsOf(theirs.entity, fields));
              setTheirs(undefined);
              write.reset();
            }}
            keepMine={() => {
              setTheirs(undefined);
              write.mutate(theirs.tag);
            }}
          />
        )}
        {write.error && !theirs && (elsewhere.length > 0 || faults.length === 0) && (
          <Refusal text={elsewhere.length > 0 ? elsewhere.map((f) => f.message).join(' ') : write.error.message} />
        )}
        {fields.length === 0 && <Text>There is nothing to write in it.</Text>}
        {fields.map((field) => (
          <FieldInput
            key={field.path}
            service={service}
            field={field}
            isNew={isNew}
            url={url}
            texts={texts}
            change={(text) => change(field.path, text)}
            fault={faultAt(field)}
            isDisabled={!mayChange}
          />
        ))}
        <Made set={set} entity={base?.entity} />
        <Group justify="space-between" mt="xs">
          <Group gap="xs">
            {mayChange && (
              <Button type="submit" loading={write.isPending} disabled={theirs !== undefined}>
                {isNew ? 'Create' : 'Save'}
              </Button>
            )}
            <Button variant="default" onClick={close}>
              Cancel
            </Button>
          </Group>
          {may.includes('DELETE') && url && <Deletion url={url} tag={base?.tag} done={done} />}
        </Group>
      </Stack>
    </form>
  );
}

function Refusal({ text }: { text: string }) {
  return (
    <Alert
      color="red"
      title="The service refuses this"
      role="alert"
      styles={{ label: { color: 'var(--mantine-color-text)' } }}
    >
      {text}
    </Alert>
  );
}

function Deletion({ url, tag, done }: { url: string; tag?: string; done: () => Promise<void> }) {
  const [isSure, setSure] = useState(false);
  const remove = useMutation({ mutationFn: () => deleteEntity(url, tag), onSuccess: done });
  if (!isSure)
    return (
      <Button variant="default" onClick={() => setSure(true)}>
        Delete …
      </Button>
    );
  return (
    <Stack gap="xs">
      {remove.error && <Refusal text={remove.error.message} />}
      <Group gap="xs">
        <Text size="sm">Delete it for good?</Text>
        <Button color="red.8" loading={remove.isPending} onClick={() => remove.mutate()}>
          Delete
        </Button>
        <Button variant="default" onClick={() => setSure(false)}>
          Keep
        </Button>
      </Group>
    </Stack>
  );
}

/** What callers do not write: keys that are there, versions, and what the service makes. */
function Made({ set, entity }: { set: SetInfo; entity?: Entity }) {
  const made = set.properties.filter(
    (p) => !p.members && (entity ? p.write !== 'always' : p.made && p.write === 'never'),
  );
  if (made.length === 0) return null;
  return (
    <Text size="xs">
      {entity
        ? made.map((p) => `${p.name}: ${String(entity[p.name] ?? 'null')}`).join(' · ')
        : `Made by the service: ${made.map((p) => p.name).join(', ')}`}
    </Text>
  );
}

interface ConflictProps {
  fields: Field[];
  before: Record<string, string>;
  mine: Record<string, string>;
  theirs: Record<string, string>;
  takeTheirs: () => void;
  keepMine: () => void;
}

/** What somebody else wrote meanwhile, beside what is written here. */
function Conflict({ fields, before, mine, theirs, takeTheirs, keepMine }: ConflictProps) {
  const different = fields.filter(({ path }) => mine[path] !== theirs[path] || theirs[path] !== before[path]);
  const shown = (text: string | undefined, isChanged: boolean) => (
    <Table.Td fw={isChanged ? 600 : 400}>{text || 'null'}</Table.Td>
  );
  return (
    <Alert
      color="orange"
      title="Somebody else has changed it meanwhile"
      role="alert"
      styles={{ label: { color: 'var(--mantine-color-text)' } }}
    >
      <Table verticalSpacing={2} fz="sm" my="xs" aria-label="Both versions">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>property</Table.Th>
            <Table.Th>it was</Table.Th>
            <Table.Th>theirs</Table.Th>
            <Table.Th>yours</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {different.map(({ path }) => (
            <Table.Tr key={path}>
              <Table.Td>{path}</Table.Td>
              {shown(before[path], false)}
              {shown(theirs[path], theirs[path] !== before[path])}
              {shown(mine[path], mine[path] !== before[path])}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      <Group gap="xs">
        <Button size="xs" variant="default" onClick={takeTheirs}>
          Start again from theirs
        </Button>
        <Button size="xs" onClick={keepMine}>
          Write mine over it
        </Button>
      </Group>
    </Alert>
  );
}
