import { Badge, Button, Checkbox, Grid, Group, NavLink, Paper, Table, Text, TextInput, Title } from '@mantine/core';
import { IconKey, IconSearch } from '@tabler/icons-react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import {
  fetchObject,
  fetchSources,
  type ObjectDetails,
  type ObjectSummary,
  type SourceSummary,
} from '../../api/client';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';
import { PublishChosen } from './PublishChosen';

/** What the databases offer: on the left a search over all objects, on the right one with its columns and first rows. */
export function SourcesPage() {
  const [search, setSearch] = useSearchParams();
  const sources = useQuery({ queryKey: ['sources'], queryFn: fetchSources });
  const [ticked, setTicked] = useState<{ source: string; names: string[] }>({ source: '', names: [] });
  const [isPublishing, setPublishing] = useState(false);
  const sought = search.get('search') ?? '';
  if (sources.isPending) return <Pending what="the sources" />;
  if (sources.isError) return <Failed error={sources.error} retry={sources.refetch} />;
  const found = sources.data.map((source) => ({ source, objects: source.objects.filter((o) => matches(o, sought)) }));
  const named = found.find((f) => f.source.name === search.get('source'));
  const chosen = named?.source.objects.find((o) => o.name === search.get('object'));
  const first = found.find((f) => f.objects.length > 0);
  const shown = chosen && named ? { source: named.source, object: chosen } : undefined;
  const fallback = first?.objects[0] ? { source: first.source, object: first.objects[0] } : undefined;
  const current = shown ?? fallback;
  const ofSource = (source: string) => (ticked.source === source ? ticked.names : []);
  const seek = (text: string) => setSearch(text ? { search: text } : {}, { replace: true });
  return (
    <>
      <Heading way={[]} title="Sources">
        {ticked.names.length === 0 && (
          <Button component={Link} to="/sources/new" size="xs" variant="default">
            Connect a database
          </Button>
        )}
        {ticked.names.length > 0 && (
          <Group gap="xs">
            <Text size="sm">{ticked.names.length} ticked</Text>
            <Button size="xs" variant="default" onClick={() => setTicked({ source: '', names: [] })}>
              Untick
            </Button>
            <Button size="xs" onClick={() => setPublishing(true)}>
              Publish …
            </Button>
          </Group>
        )}
      </Heading>
      {isPublishing && (
        <PublishChosen
          source={ticked.source}
          objects={ticked.names}
          close={() => setPublishing(false)}
          done={() => setTicked({ source: '', names: [] })}
        />
      )}
      <Grid gap="lg">
        <Grid.Col span={{ base: 12, md: 4, lg: 3 }}>
          <TextInput
            aria-label="Search tables, views and columns"
            placeholder="Search"
            leftSection={<IconSearch size={15} aria-hidden />}
            size="sm"
            mb="sm"
            value={sought}
            onChange={(event) => seek(event.currentTarget.value)}
          />
          <div className="objects">
            {found.map(({ source, objects }) => (
              <SourceObjects
                key={source.name}
                source={source}
                objects={objects}
                sought={sought}
                ticked={ofSource(source.name)}
                tick={(names) => setTicked({ source: source.name, names })}
                current={current?.source === source ? current.object : undefined}
              />
            ))}
          </div>
        </Grid.Col>
        <Grid.Col span={{ base: 12, md: 8, lg: 9 }}>
          {current ? (
            <ObjectPanel source={current.source} name={current.object.name} />
          ) : (
            <Empty>
              {sought
                ? `Nothing is called like “${sought}”.`
                : 'No database is connected yet, or none of them offers anything. Connect one, with the button above.'}
            </Empty>
          )}
        </Grid.Col>
      </Grid>
    </>
  );
}

function matches(object: ObjectSummary, sought: string): boolean {
  const wanted = sought.trim().toLowerCase();
  return !wanted || [object.name, ...object.columns].some((name) => name.toLowerCase().includes(wanted));
}

const mostShown = 300;

function scrollTo(element: HTMLAnchorElement | null) {
  element?.scrollIntoView({ block: 'nearest' });
}

interface SourceObjectsProps {
  source: SourceSummary;
  objects: ObjectSummary[];
  sought: string;
  ticked: string[];
  tick: (names: string[]) => void;
  current?: ObjectSummary;
}

function SourceObjects({ source, objects, sought, ticked, tick, current }: SourceObjectsProps) {
  // Shift ticks a range, from the one that was ticked last.
  const [last, setLast] = useState<string>();
  const turn = (name: string, isRange: boolean) => {
    const names = objects.map((object) => object.name);
    const [from, to] = [names.indexOf(last ?? name), names.indexOf(name)].sort((a, b) => a - b);
    const range = isRange && last ? names.slice(from, (to ?? 0) + 1) : [name];
    setLast(name);
    tick(ticked.includes(name) ? ticked.filter((one) => !range.includes(one)) : [...new Set([...ticked, ...range])]);
  };
  const isWhole = objects.length > 0 && objects.every((object) => ticked.includes(object.name));
  const link = (name: string) =>
    `?${new URLSearchParams({ ...(sought && { search: sought }), source: source.name, object: name })}`;
  return (
    <nav aria-label={`Objects of ${source.name}`}>
      <Text fw={650} size="sm">
        {source.title ?? source.name}
      </Text>
      {source.description && <Text size="xs">{source.description}</Text>}
      <Text size="xs" c="dimmed" mb={4}>
        {source.address}, {objects.length} of {source.objects.length}
      </Text>
      {objects.length > 0 && (
        <Checkbox
          size="xs"
          mb={4}
          label={sought ? `All ${objects.length} found` : `All ${objects.length}`}
          checked={isWhole}
          indeterminate={!isWhole && ticked.length > 0}
          onChange={() => tick(isWhole ? [] : objects.map((object) => object.name))}
        />
      )}
      {objects.slice(0, mostShown).map((object) => (
        <Group key={object.name} gap={6} wrap="nowrap">
          <Checkbox
            size="xs"
            aria-label={`Tick ${object.name}`}
            checked={ticked.includes(object.name)}
            onChange={(event) => turn(object.name, (event.nativeEvent as MouseEvent).shiftKey)}
          />
          <NavLink
            ref={object === current ? scrollTo : undefined}
            component={Link}
            to={link(object.name)}
            replace
            py={3}
            active={object === current}
            label={object.name}
            description={`${object.kind}, ${object.columns.length} columns${object.published.length > 0 ? ', published' : ''}`}
          />
        </Group>
      ))}
      {objects.length > mostShown && (
        <Text size="xs" c="dimmed">
          and {objects.length - mostShown} more; search for them
        </Text>
      )}
      {source.routines.length > 0 && !sought && (
        <>
          <Text size="xs" c="dimmed" mt="xs">
            Functions and procedures
          </Text>
          {source.routines.map((routine) => (
            <Text key={routine.name} size="xs" title={routine.comment}>
              {routine.name}({routine.parameters.join(', ')})
            </Text>
          ))}
        </>
      )}
    </nav>
  );
}

function ObjectPanel({ source, name }: { source: SourceSummary; name: string }) {
  const details = useQuery({ queryKey: ['object', source.name, name], queryFn: () => fetchObject(source.name, name) });
  if (details.isPending) return <Pending what={name} />;
  if (details.isError) return <Failed error={details.error} retry={details.refetch} />;
  return <ObjectView source={source.name} object={details.data} />;
}

function ObjectView({ source, object }: { source: string; object: ObjectDetails }) {
  return (
    <Paper component="section" aria-label={`${object.kind} ${object.name}`}>
      <Group gap="sm" mb={4}>
        <Title order={3} size="h4">
          {object.name}
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
        {object.textIndexes.map((index) => ` Full text: ${index.name} (${index.columns.join(', ')}).`).join('')}
      </Text>
      <Title order={4} size="h5" mt="md" mb={4}>
        Columns
      </Title>
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
                    {column.name}
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
      <Title order={4} size="h5" mt="md" mb={4}>
        First rows
      </Title>
      {object.rows.length === 0 ? <Empty>There are no rows.</Empty> : <Rows object={object} />}
    </Paper>
  );
}

function Rows({ object }: { object: ObjectDetails }) {
  return (
    <div className="rows" tabIndex={0} role="region" aria-label={`Rows of ${object.name}`}>
      <Table verticalSpacing={3} horizontalSpacing="xs" fz="sm" striped>
        <Table.Thead>
          <Table.Tr>
            {object.columns.map((column) => (
              <Table.Th key={column.name}>{column.name}</Table.Th>
            ))}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {object.rows.map((row, index) => (
            <Table.Tr key={index}>
              {row.map((value, column) => (
                <Table.Td key={column}>
                  {value === null ? (
                    <Text span c="dimmed" fz="xs" fs="italic">
                      null
                    </Text>
                  ) : (
                    <div className="clip">{value}</div>
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
