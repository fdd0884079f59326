import { Button, Group, Select, Stack, Text } from '@mantine/core';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useParams, useSearchParams } from 'react-router';
import {
  type Entity,
  fetchAllowed,
  fetchPage,
  fetchService,
  odataOf,
  type ServiceDetails,
  type SetInfo,
} from '../../api/client';
import { ActionForm } from './ActionForm';
import { CallerBar } from './CallerBar';
import { CallForm, rememberedValues, Statements } from './CallForm';
import { DataTable } from './DataTable';
import { Download } from './Download';
import { EntityDrawer } from './EntityDrawer';
import { QueryBar } from './QueryBar';
import { Heading } from '../../components/Heading';
import { RequestShown } from './RequestShown';
import { Failed, NotFound, Pending } from '../../components/States';
import { callPath, type DataQuery, pageUrl } from '../../api/query';

const text = (rows: number) => rows.toLocaleString('en');

/** A set's rows: every page, order and filter is a request to the public face, and that request is shown. */
export function DataPage() {
  const { service = '', set: name = '' } = useParams();
  const details = useQuery({ queryKey: ['service', service], queryFn: () => fetchService(service) });
  if (details.isPending) return <Pending what="the set" />;
  if (details.isError) return <Failed error={details.error} retry={details.refetch} />;
  const set = details.data.sets.find((candidate) => candidate.name === name);
  if (!set || set.kind === 'contained') return <NotFound what="entity set" />;
  return (
    <>
      <Heading
        way={[
          { label: 'Services', to: '/services' },
          { label: details.data.title, to: `/services/${service}?set=${encodeURIComponent(name)}` },
        ]}
        title={name}
      >
        <CallerBar />
      </Heading>
      {set.kind === 'action' && set.query ? (
        <ActionForm key={name} service={details.data} set={set} query={set.query} />
      ) : (
        <Browser key={name} service={details.data} set={set} />
      )}
    </>
  );
}

/** The query lives in the page's own address, so that it can be kept and sent to others. */
function useDataQuery(): [DataQuery, (change: Partial<DataQuery>) => void] {
  const [search, setSearch] = useSearchParams();
  const order = search.get('orderby')?.split(' ');
  const query: DataQuery = {
    filter: search.get('filter') ?? '',
    search: search.get('search') ?? '',
    orderBy: order?.[0] ? { property: order[0], descending: order[1] === 'desc' } : undefined,
    select: search.get('select')?.split(',') ?? [],
  };
  const change = (part: Partial<DataQuery>) => {
    const next = { ...query, ...part };
    const params = new URLSearchParams();
    if (next.filter) params.set('filter', next.filter);
    if (next.search) params.set('search', next.search);
    if (next.orderBy) params.set('orderby', next.orderBy.property + (next.orderBy.descending ? ' desc' : ''));
    if (next.select.length > 0) params.set('select', next.select.join(','));
    setSearch(params, { replace: true });
  };
  return [query, change];
}

function Browser({ service, set }: { service: ServiceDetails; set: SetInfo }) {
  const root = odataOf(service);
  const [query, changeQuery] = useDataQuery();
  const [pageSize, setPageSize] = useState(20);
  // The pages that were gone through: next links are opaque, so going back means having kept them.
  const [pages, setPages] = useState<string[]>([]);
  const [values, setValues] = useState(rememberedValues(service.name, set.name) ?? set.query?.examples ?? {});
  const isList = !set.query || set.query.gives === 'rows';
  const path = set.query ? callPath(set.name, set.query.parameters, values) : encodeURIComponent(set.name);
  const first = pageUrl(root, path ?? '', query, isList);
  const url = pages.at(-1) ?? first;
  const page = useQuery({
    queryKey: ['page', url, pageSize],
    queryFn: () => fetchPage(url, pageSize),
    placeholderData: keepPreviousData,
    enabled: path !== undefined,
  });
  // undefined = nothing is edited, null = a new entity
  const [edited, setEdited] = useState<Entity | null>();
  const allowed = useQuery({
    queryKey: ['allowed', root, set.name],
    queryFn: () => fetchAllowed(root + encodeURIComponent(set.name)),
    enabled: set.allow.some((operation) => operation !== 'read'),
    retry: false,
  });
  const mayEdit = (set.allow.includes('update') || set.allow.includes('delete')) && allowed.data;
  const change = (part: Partial<DataQuery>) => {
    setPages([]);
    changeQuery(part);
  };
  const shown = set.properties.filter((property) => query.select.length === 0 || query.select.includes(property.name));
  const start = pages.length * pageSize;
  const rows = page.data?.rows.length ?? 0;
  return (
    <Stack gap="sm">
      <Group justify="space-between" align="start" wrap="wrap">
        {isList ? <QueryBar set={set} query={query} change={change} /> : <span />}
        {allowed.data?.includes('POST') && (
          <Button size="xs" onClick={() => setEdited(null)}>
            New entity
          </Button>
        )}
      </Group>
      {edited !== undefined && (
        <EntityDrawer service={service} set={set} row={edited ?? undefined} close={() => setEdited(undefined)} />
      )}
      {set.query && (
        <CallForm
          service={service}
          set={set}
          query={set.query}
          values={values}
          call={(given) => {
            setPages([]);
            setValues(given);
          }}
        />
      )}
      {page.isPending && <Pending what="rows" />}
      {page.isError && <Failed error={page.error} retry={page.refetch} />}
      {page.data && !page.isError && (
        <>
          {set.query?.gives === 'value' ? (
            <Text size="xl" fw={650} aria-label={`Value of ${set.name}`}>
              {page.data.rows[0] ? String(page.data.rows[0].value) : ''}
            </Text>
          ) : (
            <DataTable
              properties={shown}
              rows={page.data.rows}
              label={set.name}
              order={query.orderBy}
              sort={isList ? (orderBy) => change({ orderBy }) : undefined}
              edit={mayEdit && set.key.every((k) => shown.some((p) => p.name === k)) ? setEdited : undefined}
            />
          )}
          <Group justify="space-between">
            <Text size="sm" aria-live="polite">
              {rows === 0
                ? isList
                  ? 'No row matches.'
                  : 'There is no such row.'
                : !isList
                  ? set.query?.gives === 'value'
                    ? 'One value'
                    : 'One row'
                  : `Rows ${text(start + 1)} to ${text(start + rows)} of ${page.data.count === undefined ? 'many' : text(page.data.count)}`}
            </Text>
            {isList && (
              <Group gap="xs">
                <Download url={first} name={set.name} />
                <Select
                  aria-label="Rows in a page"
                  size="xs"
                  w={110}
                  data={['20', '50', '100', '500'].map((value) => ({ value, label: `${value} rows` }))}
                  value={String(pageSize)}
                  onChange={(value) => {
                    setPages([]);
                    setPageSize(Number(value ?? 20));
                  }}
                  allowDeselect={false}
                />
                <Button
                  size="xs"
                  variant="default"
                  disabled={pages.length === 0}
                  onClick={() => setPages(pages.slice(0, -1))}
                >
                  Previous page
                </Button>
                <Button
                  size="xs"
                  variant="default"
                  disabled={!page.data.nextLink || page.isPlaceholderData}
                  onClick={() => page.data.nextLink && setPages([...pages, page.data.nextLink])}
                >
                  Next page
                </Button>
              </Group>
            )}
          </Group>
        </>
      )}
      <RequestShown
        url={url}
        pageSize={pageSize}
        page={page.isError ? undefined : page.data}
        isFetching={page.isFetching}
      />
      {set.query && path !== undefined && <Statements key={url} url={url} />}
    </Stack>
  );
}
