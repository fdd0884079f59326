import { Button, Code, Group, Paper, SimpleGrid, Stack, Text } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { fetchStatements, type QueryInfo, type ServiceDetails, type SetInfo } from '../../api/client';
import { Failed, Pending } from '../../components/States';
import { callPath } from '../../api/query';
import { FieldInput } from './FieldInput';

const key = (service: string, query: string) => `gable.call.${service}.${query}`;

/** The values that a query was called with last, in this browser. */
export function rememberedValues(service: string, query: string): Record<string, string> | undefined {
  try {
    return JSON.parse(localStorage.getItem(key(service, query)) ?? 'null') ?? undefined;
  } catch {
    return undefined;
  }
}

/** Keeps the values for the next time, in this browser. */
export function keepValues(service: string, query: string, values: Record<string, string>): void {
  localStorage.setItem(key(service, query), JSON.stringify(values));
}

interface CallFormProps {
  service: ServiceDetails;
  set: SetInfo;
  query: QueryInfo;
  values: Record<string, string>;
  call: (values: Record<string, string>) => void;
}

/** An editor for each parameter of a query; the values are kept for the next time. */
export function CallForm({ service, set, query, values, call }: CallFormProps) {
  const [texts, setTexts] = useState(values);
  const isReady = callPath(set.name, query.parameters, texts) !== undefined;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    keepValues(service.name, set.name, texts);
    call(texts);
  };
  if (query.parameters.length === 0 && !query.takesFromCaller) return null;
  return (
    <Paper component="form" aria-label={`Call ${set.name}`} onSubmit={submit} withBorder p="sm">
      {set.description && (
        <Text size="sm" mb="xs">
          {set.description}
        </Text>
      )}
      <SimpleGrid cols={{ base: 1, sm: 2, lg: 4 }} spacing="sm">
        {query.parameters.map((parameter) => (
          <FieldInput
            key={parameter.name}
            service={service}
            field={{ path: parameter.name, property: parameter }}
            isNew={false}
            texts={texts}
            change={(text) => setTexts({ ...texts, [parameter.name]: text })}
            isDisabled={false}
          />
        ))}
      </SimpleGrid>
      <Group mt="sm" gap="xs">
        <Button type="submit" size="xs" disabled={!isReady}>
          Call
        </Button>
        <Button size="xs" variant="default" onClick={() => setTexts(query.examples)}>
          Fill in the example
        </Button>
        {query.takesFromCaller && (
          <Text size="xs" c="dimmed">
            Some values are those of the caller.
          </Text>
        )}
      </Group>
    </Paper>
  );
}

/** The statements behind a request, and how the database means to run them. */
export function Statements({ url }: { url: string }) {
  const [isShown, show] = useState(false);
  const explained = useQuery({
    queryKey: ['statements', url],
    queryFn: () => fetchStatements(url),
    enabled: isShown,
    retry: false,
  });
  return (
    <Stack gap="xs">
      <Group>
        <Button size="compact-xs" variant="subtle" onClick={() => show(!isShown)} aria-expanded={isShown}>
          {isShown ? 'Hide the statement' : 'Show the statement and its plan'}
        </Button>
      </Group>
      {isShown && explained.isFetching && <Pending what="the statement" />}
      {isShown && explained.isError && <Failed error={explained.error} retry={explained.refetch} />}
      {isShown &&
        explained.data?.statements.map((statement) => (
          <div key={statement.purpose}>
            <Text size="xs" fw={650}>
              {statement.purpose}
            </Text>
            <Code block>{statement.sql}</Code>
            {statement.parameters.length > 0 && (
              <Text size="xs" c="dimmed">
                {statement.parameters.map((p) => `${p.placeholder} = ${p.value}`).join(', ')}
              </Text>
            )}
            {statement.plan.length > 0 && <Code block>{statement.plan.join('\n')}</Code>}
          </div>
        ))}
    </Stack>
  );
}
