import {
  Autocomplete,
  Button,
  Checkbox,
  Group,
  Select,
  SimpleGrid,
  Stack,
  Text,
  Textarea,
  TextInput,
} from '@mantine/core';
import { useHotkeys, useSessionStorage } from '@mantine/hooks';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { useSearchParams } from 'react-router';
import { fetchService, fetchServices, type ServiceDetails, type ServiceSummary } from '../../api/client';
import { sendComposed } from '../../api/compose';
import { CallerInput } from '../../components/CallerInput';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';
import { CommitInput } from '../design/CommitInput';
import {
  buildAddress,
  type ComposedAddress,
  fieldsOf,
  headersIn,
  parseAddress,
  pathOf,
  rootOf,
  setAndKey,
  withOption,
} from './address';
import { KeepForm } from './KeepForm';
import { SentView } from './SentView';

const methods = ['GET', 'HEAD', 'POST', 'PATCH', 'PUT', 'DELETE', 'OPTIONS'];
const changing = ['POST', 'PATCH', 'PUT', 'DELETE'];

/** What is sent with a method; a body that another one had stays in the form alone. */
const bodyOf = ({ method, body }: Pick<Typed, 'method' | 'body'>) =>
  changing.includes(method) && method !== 'DELETE' ? body : '';

/** Puts a request together for any face, by forms or by hand, and sends it as any caller. */
export function ComposePage() {
  const services = useQuery({ queryKey: ['services'], queryFn: fetchServices });
  return (
    <>
      <Heading way={[]} title="Compose a request" />
      {services.isPending && <Pending what="the services" />}
      {services.isError && <Failed error={services.error} retry={services.refetch} />}
      {services.data?.length === 0 && <Empty>There is no service yet to send a request to.</Empty>}
      {services.data?.[0] && <Composer services={services.data} first={services.data[0]} />}
    </>
  );
}

interface Typed {
  method: string;
  target: string;
  caller: string;
  headers: string;
  body: string;
}

function Composer({ services, first }: { services: ServiceSummary[]; first: ServiceSummary }) {
  const [search, setSearch] = useSearchParams();
  const face = Object.keys(first.faces)[0] ?? 'odata';
  // What is typed outlives a session that ends.
  const [stored, setStored] = useSessionStorage<Typed>({
    key: 'gable-composed',
    defaultValue: { method: 'GET', target: rootOf(first, face), caller: '', headers: '', body: '' },
    getInitialValueInEffect: false,
  });
  const [typed, setTyped] = useState<Typed>(() => ({
    ...stored,
    ...(search.has('target') && {
      target: search.get('target') ?? '',
      method: search.get('method') ?? 'GET',
      caller: search.get('as') ?? '',
    }),
  }));
  const [isKeeping, setKeeping] = useState(false);
  // Never remembered: what stays is chosen anew for each request that somebody puts together.
  const [isReal, setReal] = useState(false);
  const put = (part: Partial<Typed>) => setTyped((now) => ({ ...now, ...part }));
  const { method, target, caller, headers, body } = typed;
  useEffect(() => {
    setStored(typed);
    setSearch(
      { method: typed.method, target: typed.target, ...(typed.caller && { as: typed.caller }) },
      { replace: true },
    );
  }, [typed, setStored, setSearch]);
  const hasBody = changing.includes(method) && method !== 'DELETE';
  const send = useMutation({
    mutationFn: (request: Typed) =>
      sendComposed({
        method: request.method,
        target: request.target,
        headers: headersIn(request.headers).map(([name, value]) => ({ name, value })),
        body: bodyOf(request) || undefined,
        as: request.caller || undefined,
        real: isReal && changing.includes(request.method),
      }),
  });
  const submit = () => send.mutate(typed);
  useHotkeys([['mod+Enter', submit]], []);
  const parts = parseAddress(target, services);
  const go = (next: ComposedAddress) => {
    const service = services.find((one) => one.name === next.service);
    if (service) put({ target: buildAddress(rootOf(service, next.face), next) });
  };
  const follow = (name: string, text: string) => {
    const next = followed(name, text, send.variables?.target ?? target);
    if (next === undefined || !parseAddress(next, services)) return undefined;
    return () => {
      const request = { ...typed, method: 'GET', target: next };
      setTyped(request);
      send.mutate(request);
    };
  };
  return (
    <Stack gap="sm">
      {parts && <Parts parts={parts} services={services} go={go} put={put} method={method} />}
      <Group align="end" gap="xs" wrap="wrap">
        <Select
          size="xs"
          label="Method"
          data={methods}
          value={method}
          onChange={(value) => put({ method: value ?? 'GET' })}
          allowDeselect={false}
          w={110}
        />
        <TextInput
          size="xs"
          label="Address"
          value={target}
          onChange={(event) => put({ target: event.currentTarget.value })}
          onKeyDown={(event) => event.key === 'Enter' && submit()}
          error={parts ? undefined : 'This is the address of no service'}
          spellCheck={false}
          className="target"
          styles={{ input: { fontFamily: 'var(--mantine-font-family-monospace)' } }}
        />
        <CallerInput caller={caller} setCaller={(who) => put({ caller: who })} />
        <Button
          size="xs"
          loading={send.isPending}
          disabled={!parts}
          color={isReal && changing.includes(method) ? 'red' : undefined}
          onClick={submit}
        >
          {changing.includes(method) ? (isReal ? 'Send, and change data' : 'Try, and undo') : 'Send'}
        </Button>
        {changing.includes(method) && (
          <Checkbox
            size="xs"
            mb={7}
            label="For real"
            checked={isReal}
            onChange={(event) => setReal(event.currentTarget.checked)}
          />
        )}
      </Group>
      <details open={hasBody || headers.length > 0}>
        <summary>{hasBody ? 'Headers and body' : 'Headers'}</summary>
        <SimpleGrid cols={{ base: 1, sm: hasBody ? 2 : 1 }} mt={4}>
          <Textarea
            size="xs"
            label="Headers"
            description="One in a line, such as Accept: text/csv"
            autosize
            minRows={2}
            maxRows={10}
            value={headers}
            onChange={(event) => put({ headers: event.currentTarget.value })}
            spellCheck={false}
          />
          {hasBody && (
            <Textarea
              size="xs"
              label="Body"
              description="JSON unless the header Content-Type says otherwise"
              autosize
              minRows={2}
              maxRows={16}
              value={body}
              onChange={(event) => put({ body: event.currentTarget.value })}
              onBlur={() =>
                body.trim() &&
                !/^content-type:/im.test(headers) &&
                put({ headers: `Content-Type: application/json\n${headers}`.trim() })
              }
              spellCheck={false}
              styles={{ input: { fontFamily: 'var(--mantine-font-family-monospace)' } }}
            />
          )}
        </SimpleGrid>
      </details>
      {send.isError && <Failed error={send.error} retry={submit} />}
      {send.data && (
        <SentView answer={send.data} follow={follow}>
          <Button size="xs" variant="default" onClick={() => setKeeping(true)}>
            Keep …
          </Button>
        </SentView>
      )}
      {isKeeping && send.data && send.variables && (
        <KeepForm
          method={send.variables.method}
          target={send.variables.target}
          as={send.variables.caller}
          headers={headersIn(send.variables.headers)}
          body={bodyOf(send.variables)}
          answer={send.data}
          close={() => setKeeping(false)}
        />
      )}
    </Stack>
  );
}

interface PartsProps {
  parts: ComposedAddress;
  services: ServiceSummary[];
  method: string;
  go: (next: ComposedAddress) => void;
  put: (part: Partial<Typed>) => void;
}

/** The address by forms. Forms and text are one: whatever is changed, the other follows. */
function Parts({ parts, services, method, go, put }: PartsProps) {
  const details = useQuery({ queryKey: ['service', parts.service], queryFn: () => fetchService(parts.service) });
  const service = services.find((one) => one.name === parts.service);
  const place = setAndKey(parts.face, parts.path);
  const known = details.data?.sets.filter((set) => set.kind !== 'contained') ?? [];
  const documents = documentsOf(parts.face);
  const set = known.find((one) => one.name === place?.set);
  const columns = set?.properties.map((property) => property.name) ?? [];
  const isDocument = documents.some((one) => one.value === parts.path);
  return (
    <>
      <Group gap="xs" align="end">
        <Select
          size="xs"
          label="Service"
          data={services.map((one) => ({ value: one.name, label: one.title }))}
          value={parts.service}
          onChange={(name) => {
            const next = services.find((one) => one.name === name);
            if (!next) return;
            const face = parts.face in next.faces ? parts.face : (Object.keys(next.faces)[0] ?? '');
            go({ service: next.name, face, path: '', options: [] });
          }}
          allowDeselect={false}
          searchable
          w={220}
        />
        <Select
          size="xs"
          label="Face"
          data={Object.keys(service?.faces ?? {}).map((face) => ({ value: face, label: faceNames[face] ?? face }))}
          value={parts.face}
          onChange={(face) => face && go({ ...parts, face, path: place?.set ?? '', options: [] })}
          allowDeselect={false}
          w={120}
        />
        <Autocomplete
          size="xs"
          label="Set or document"
          data={[
            { group: 'Documents', items: documents.map((one) => one.value || '/') },
            { group: 'Sets', items: known.filter((one) => !one.query).map((one) => one.name) },
            { group: 'Queries', items: known.filter((one) => one.query).map((one) => one.name) },
          ]}
          value={isDocument ? parts.path || '/' : (place?.set ?? parts.path)}
          onChange={(value) => {
            const path = value === '/' ? '' : value;
            const isOther = path !== parts.path;
            if (isOther)
              go({
                ...parts,
                path: documents.some((one) => one.value === path) ? path : pathOf(parts.face, path, ''),
                options: [],
              });
          }}
          maxDropdownHeight={300}
          w={220}
        />
        {!isDocument && place && (
          <>
            <CommitInput
              label="Key"
              placeholder="all rows"
              value={place.key}
              commit={(key) => go({ ...parts, path: pathOf(parts.face, place.set, key, place.rest) })}
              w={110}
            />
            <CommitInput
              label="Below it"
              placeholder="/readings"
              value={place.rest}
              commit={(rest) =>
                go({
                  ...parts,
                  path: pathOf(parts.face, place.set, place.key, rest && !rest.startsWith('/') ? `/${rest}` : rest),
                })
              }
              w={130}
            />
          </>
        )}
        {set && changing.includes(method) && method !== 'DELETE' && (
          <Button size="xs" variant="default" onClick={() => put({ body: templateOf(details.data, set.name) })}>
            Fill the body
          </Button>
        )}
      </Group>
      {!isDocument && method === 'GET' && (
        <SimpleGrid cols={{ base: 2, sm: 4, lg: fieldsOf(parts.face).length }} spacing="xs" verticalSpacing={4}>
          {fieldsOf(parts.face).map((field) => (
            <CommitInput
              key={field.name}
              label={field.label}
              placeholder={field.hint}
              value={parts.options.find(([name]) => name === field.name)?.[1] ?? ''}
              commit={(value) => go({ ...parts, options: withOption(parts.options, field.name, value) })}
            />
          ))}
        </SimpleGrid>
      )}
      {!isDocument && columns.length > 0 && (
        <Text size="xs" c="dimmed">
          Properties: {columns.slice(0, 30).join(', ')}
          {columns.length > 30 && ` and ${columns.length - 30} more`}
        </Text>
      )}
    </>
  );
}

const faceNames: Record<string, string> = { odata: 'OData', rest: 'REST' };

function documentsOf(face: string): { value: string }[] {
  return face === 'odata'
    ? [{ value: '' }, { value: '$metadata' }, { value: 'openapi.json' }]
    : [{ value: '' }, { value: 'openapi.json' }];
}

/** An object with the properties that can be sent, as a start. */
function templateOf(service: ServiceDetails | undefined, name: string): string {
  const set = service?.sets.find((one) => one.name === name);
  const entries = (set?.properties ?? [])
    .filter((property) => property.write !== 'never' && property.type !== 'Edm.Stream')
    .map((property): [string, unknown] => [property.name, sampleOf(property.type)]);
  return JSON.stringify(Object.fromEntries(entries), null, 2);
}

function sampleOf(type: string): unknown {
  if (/^Edm\.(Byte|SByte|Int16|Int32|Int64|Decimal|Single|Double)/.test(type)) return 0;
  if (type.startsWith('Edm.Boolean')) return false;
  if (type.startsWith('Collection(')) return [];
  return type.startsWith('Edm.') ? '' : null;
}

/** Members whose text is an address. */
const links = /(^|[.@])(url|href|id|nextLink|navigationLink|readLink|editLink|context|next|first|last|self)$/i;

/** The address that a member of an answer names, as a path; undefined = it names none. */
function followed(name: string, text: string, from: string): string | undefined {
  if (!links.test(name) || !text) return undefined;
  try {
    const url = new URL(text, new URL(from, location.origin));
    return /^https?:$/.test(url.protocol) ? url.pathname + url.search : undefined;
  } catch {
    return undefined;
  }
}
