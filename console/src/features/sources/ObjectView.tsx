import { Badge, Code, Group, Paper, Table, Tabs, Text, Title } from '@mantine/core';
import { IconKey } from '@tabler/icons-react';
import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense } from 'react';
import { Link, useSearchParams } from 'react-router';
import { fetchObject, type ObjectDetails } from '../../api/client';
import { fetchExtent } from '../../api/sources';
import { Empty, Failed, Pending } from '../../components/States';
import { sizeOf } from '../home/figures';
import { RawRowsView } from './RawRowsView';

const RelationsPicture = lazy(() =>
  import('./RelationsPicture').then((module) => ({ default: module.RelationsPicture })),
);

/** A table or view closely: columns, keys, rows, what it is tied to, and how it is defined. */
export function ObjectPanel({ source, name }: { source: string; name: string }) {
  // Rows have a tab of their own, which asks for them.
  const details = useQuery({ queryKey: ['object', source, name], queryFn: () => fetchObject(source, name) });
  if (details.isPending) return <Pending what={name} />;
  if (details.isError) return <Failed error={details.error} retry={details.refetch} />;
  return <ObjectView key={`${source} ${name}`} source={source} object={details.data} />;
}

const tabs = ['columns', 'rows', 'relations', 'definition'];

function ObjectView({ source, object }: { source: string; object: ObjectDetails }) {
  const [search, setSearch] = useSearchParams();
  const tab = tabs.find((one) => one === search.get('tab')) ?? 'columns';
  const go = (next: string | null) => {
    const changed = new URLSearchParams(search);
    changed.set('source', source);
    changed.set('object', object.name);
    changed.set('tab', next ?? 'columns');
    setSearch(changed, { replace: true });
  };
  return (
    <Paper component="section" aria-label={`${object.kind} ${object.name}`}>
      <Group gap="sm" mb={4}>
        <Title order={3} size="h4">
          <bdi>{object.name}</bdi>
        </Title>
        <Text c="dimmed">
          {object.kind} of {source}
        </Text>
        {object.published.map((set) => (
          <Badge
            key={set}
            tt="none"
            variant="light"
            component={Link}
            to={`/services/${set.replace('/', '?set=')}`}
            style={{ cursor: 'pointer' }}
          >
            published as {set}
          </Badge>
        ))}
      </Group>
      {object.comment && <Text mb="xs">{object.comment}</Text>}
      {object.fault && <Text c="red">{object.fault}</Text>}
      <Text size="sm" c="dimmed">
        {object.key.length > 0 ? `Primary key: ${object.key.join(', ')}.` : 'No primary key.'}
        {object.uniqueKeys.map((key) => ` Unique: ${key.join(', ')}.`).join('')}
        {object.indexes.map((index) => ` Index: ${index.join(', ')}.`).join('')}
        {object.textIndexes.map((index) => ` Full text: ${index.name} (${index.columns.join(', ')}).`).join('')}
      </Text>
      <Tabs value={tab} onChange={go} keepMounted={false} mt="xs">
        <Tabs.List mb="sm">
          <Tabs.Tab value="columns">Columns ({object.columns.length})</Tabs.Tab>
          <Tabs.Tab value="rows">Rows</Tabs.Tab>
          <Tabs.Tab value="relations">Relations ({object.foreignKeys.length + object.referredBy.length})</Tabs.Tab>
          <Tabs.Tab value="definition">Size and definition</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="columns">
          <Columns source={source} object={object} />
          <Title order={4} size="h5" mt="md" mb={4}>
            First rows
          </Title>
          {object.rows.length === 0 ? <Empty>There are no rows.</Empty> : <FirstRows object={object} />}
        </Tabs.Panel>
        <Tabs.Panel value="rows">
          <RawRowsView source={source} object={object} />
        </Tabs.Panel>
        <Tabs.Panel value="relations">
          <Suspense fallback={<Pending what="the picture" />}>
            <RelationsPicture source={source} names={[object.name]} isAround />
          </Suspense>
        </Tabs.Panel>
        <Tabs.Panel value="definition">
          <Extent source={source} object={object} />
        </Tabs.Panel>
      </Tabs>
    </Paper>
  );
}

function Columns({ source, object }: { source: string; object: ObjectDetails }) {
  return (
    <Table.ScrollContainer minWidth={560}>
      <Table verticalSpacing={4} striped>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Name</Table.Th>
            <Table.Th>Declared</Table.Th>
            <Table.Th>Published as</Table.Th>
            <Table.Th>Null</Table.Th>
            <Table.Th>Refers to</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {object.columns.map((column) => (
            <Table.Tr key={column.name}>
              <Table.Td>
                <Group gap={6} wrap="nowrap">
                  <bdi>{column.name}</bdi>
                  {object.key.includes(column.name) && <IconKey size={15} aria-label="part of the key" role="img" />}
                </Group>
                {column.comment && (
                  <Text size="xs" c="dimmed">
                    {column.comment}
                  </Text>
                )}
              </Table.Td>
              <Table.Td>{column.declaredType}</Table.Td>
              <Table.Td title={column.reason}>{column.type ?? `left out: ${column.reason}`}</Table.Td>
              <Table.Td>{column.nullable ? 'may be' : 'never'}</Table.Td>
              <Table.Td>
                {object.foreignKeys
                  .filter((key) => key.columns.includes(column.name))
                  .map((key) => (
                    <Link
                      key={key.target}
                      to={`?${new URLSearchParams({ source, object: key.target.replace(/^public\./, '') })}`}
                    >
                      {key.target}
                    </Link>
                  ))}
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Table.ScrollContainer>
  );
}

function FirstRows({ object }: { object: ObjectDetails }) {
  return (
    <RowsTable
      label={`Rows of ${object.name}`}
      columns={object.columns.map((column) => column.name)}
      rows={object.rows}
    />
  );
}

interface RowsTableProps {
  label: string;
  columns: string[];
  rows: (string | null)[][];
  /** The head of a column; its name when missing. */
  head?: (column: string) => React.ReactNode;
}

/** Rows as the database holds them. */
export function RowsTable({ label, columns, rows, head }: RowsTableProps) {
  return (
    <div className="rows" tabIndex={0} role="region" aria-label={label}>
      <Table verticalSpacing={3} horizontalSpacing="xs" fz="sm" striped stickyHeader>
        <Table.Thead>
          <Table.Tr>
            {columns.map((column) => (
              <Table.Th key={column}>{head ? head(column) : <bdi>{column}</bdi>}</Table.Th>
            ))}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {rows.map((row, index) => (
            <Table.Tr key={index}>
              {row.map((value, column) => (
                <Table.Td key={column}>
                  {value === null ? (
                    <Text span c="dimmed" fz="xs" fs="italic">
                      null
                    </Text>
                  ) : (
                    <div className="clip">
                      <bdi>{value}</bdi>
                    </div>
                  )}
                </Table.Td>
              ))}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </div>
  );
}

function Extent({ source, object }: { source: string; object: ObjectDetails }) {
  const extent = useQuery({
    queryKey: ['extent', source, object.name],
    queryFn: () => fetchExtent(source, object.name),
  });
  if (extent.isPending) return <Pending what="the size" />;
  if (extent.isError) return <Failed error={extent.error} retry={extent.refetch} />;
  const { rows, bytes, definition } = extent.data;
  return (
    <>
      <Text size="sm">
        {rows.toLocaleString()} rows{bytes !== undefined && `, ${sizeOf(bytes)} with indexes`}.
      </Text>
      {object.referredBy.length > 0 && <Text size="sm">Referred to by {object.referredBy.join(', ')}.</Text>}
      {definition && (
        <Code block mt="xs" tabIndex={0} aria-label={`Definition of ${object.name}`}>
          {definition}
        </Code>
      )}
    </>
  );
}
