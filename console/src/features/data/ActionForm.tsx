import { Alert, Button, Code, Group, Paper, SimpleGrid, Stack, Text } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import {
  callAction,
  exactJson,
  odataOf,
  type QueryInfo,
  RequestError,
  type ServiceDetails,
  type SetInfo,
} from '../../api/client';
import { bodyOf, faultOf, type Field } from '../../api/entity';
import { Address } from '../../components/Address';
import { keepValues, rememberedValues } from './CallForm';
import { CallerBar } from './CallerBar';
import { DataTable } from './DataTable';
import { FieldInput } from './FieldInput';

interface ActionFormProps {
  service: ServiceDetails;
  set: SetInfo;
  query: QueryInfo;
}

/** An editor for each parameter of an action, the request as it is sent, and what the action gave. */
export function ActionForm({ service, set, query }: ActionFormProps) {
  const [texts, setTexts] = useState(rememberedValues(service.name, set.name) ?? query.examples);
  const [isTouched, touch] = useState(false);
  const client = useQueryClient();
  const fields: Field[] = query.parameters.map((parameter) => ({ path: parameter.name, property: parameter }));
  const full = Object.fromEntries(fields.map((field) => [field.path, texts[field.path] ?? '']));
  const url = odataOf(service) + encodeURIComponent(set.name);
  const body = bodyOf(fields, full, {}, true);
  const call = useMutation({
    mutationFn: () => callAction(url, body),
    // What it has changed is shown by pages that are looked at later.
    onSuccess: () => client.invalidateQueries({ queryKey: ['page'] }),
  });
  const refused = call.error instanceof RequestError ? call.error : undefined;
  const faults = fields.map((field) => faultOf(field, full[field.path] ?? '', true));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    touch(true);
    if (faults.some(Boolean)) return;
    keepValues(service.name, set.name, texts);
    call.mutate();
  };
  const others = refused?.faults.filter((fault) => !fields.some((field) => field.path === fault.target)) ?? [];
  return (
    <Stack gap="sm">
      <CallerBar />
      <Paper component="form" aria-label={`Call ${set.name}`} onSubmit={submit} withBorder p="sm">
        {set.description && (
          <Text size="sm" mb="xs">
            {set.description}
          </Text>
        )}
        <SimpleGrid cols={{ base: 1, sm: 2, lg: 4 }} spacing="sm">
          {fields.map((field, index) => (
            <FieldInput
              key={field.path}
              service={service}
              field={field}
              isNew
              texts={texts}
              change={(text) => setTexts({ ...texts, [field.path]: text })}
              fault={
                (isTouched ? faults[index] : undefined) ??
                refused?.faults.find((fault) => fault.target === field.path)?.message
              }
              isDisabled={call.isPending}
            />
          ))}
        </SimpleGrid>
        <Group mt="sm" gap="xs">
          <Button type="submit" size="xs" loading={call.isPending}>
            Call
          </Button>
          <Button size="xs" variant="default" onClick={() => setTexts(query.examples)}>
            Fill in the example
          </Button>
          <Text size="xs" c="dimmed">
            It may change something.{query.takesFromCaller && ' Some values are those of the caller.'}
          </Text>
        </Group>
      </Paper>
      <div className="request" role="group" aria-label="Request">
        <Group gap="xs" wrap="nowrap" align="baseline">
          <Text size="xs" fw={650}>
            POST
          </Text>
          <Address url={url} label="the request" />
        </Group>
        <Group justify="space-between">
          <Text size="xs" c="dimmed" className="address">
            Content-Type: {exactJson} · {JSON.stringify(body)}
          </Text>
          <Text size="xs" c="dimmed">
            {call.isPending ? 'calling …' : call.data ? `${call.data.milliseconds.toFixed(0)} ms` : ''}
          </Text>
        </Group>
      </div>
      {call.isError && (
        <Alert color="red" title="It was refused, and nothing has changed" role="alert">
          {others.length > 0 || !refused?.faults.length
            ? others.map((fault) => fault.message).join(' ') || call.error.message
            : 'See what stands beside the values.'}
        </Alert>
      )}
      {call.data && !call.isError && <Result set={set} query={query} rows={call.data.rows} />}
      <details>
        <summary>
          <Text size="xs" span>
            Show the statements
          </Text>
        </summary>
        <Code block>{query.statement}</Code>
      </details>
    </Stack>
  );
}

function Result({ set, query, rows }: { set: SetInfo; query: QueryInfo; rows: Record<string, unknown>[] }) {
  if (query.gives === 'nothing' || (rows.length === 0 && query.gives !== 'rows'))
    return <Alert color="teal" title="Done" role="status" />;
  return (
    <>
      {query.gives === 'value' ? (
        <Text size="xl" fw={650} aria-label={`Value of ${set.name}`}>
          {String(rows[0]?.value)}
        </Text>
      ) : (
        <DataTable properties={set.properties} rows={rows} order={undefined} label={set.name} />
      )}
      <Text size="sm" aria-live="polite">
        {query.gives === 'rows' ? `Done; it gave ${rows.length} ${rows.length === 1 ? 'row' : 'rows'}` : 'Done'}
      </Text>
    </>
  );
}
