import { Badge, Button, Code, Grid, Group, NavLink, Paper, Table, Text, Title } from '@mantine/core';
import { IconArrowRight, IconArrowsSplit2, IconKey } from '@tabler/icons-react';
import { useQuery } from '@tanstack/react-query';
import { Fragment } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import {
  fetchService,
  type NavigationInfo,
  odataOf,
  type QueryInfo,
  restOf,
  type ServiceDetails,
  type SetInfo,
} from '../../api/client';
import { notesOf } from '../../api/entity';
import { callPath } from '../../api/query';
import { Address } from '../../components/Address';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';

/** A service's sets: on the left all of them, on the right one with its key, properties and relations. */
export function ServicePage() {
  const { service = '' } = useParams();
  const [search] = useSearchParams();
  const details = useQuery({ queryKey: ['service', service], queryFn: () => fetchService(service) });
  if (details.isPending) return <Pending what="the service" />;
  if (details.isError) return <Failed error={details.error} retry={details.refetch} />;
  const chosen = details.data.sets.find((set) => set.name === search.get('set')) ?? details.data.sets[0];
  return (
    <>
      <Heading way={[{ label: 'Services', to: '/services' }]} title={details.data.title}>
        <Group gap="xs">
          <Button component={Link} to={`/design/${service}`} variant="default" size="xs">
            Change the design
          </Button>
          <Button component="a" href={`/manage/handover/${service}`} target="_blank" variant="default" size="xs">
            Page for consumers
          </Button>
          <Button component={Link} to={`/services/${service}/access`} variant="default" size="xs">
            Who may do what
          </Button>
          {odataOf(details.data) && (
            <Button component={Link} to={`/services/${service}/metadata`} variant="default" size="xs">
              Read the metadata
            </Button>
          )}
          {restOf(details.data) && (
            <Button component={Link} to={`/services/${service}/reference`} variant="default" size="xs">
              REST reference
            </Button>
          )}
          {details.data.sql && (
            <Button component={Link} to={`/services/${service}/sql`} variant="default" size="xs">
              Statements
            </Button>
          )}
        </Group>
      </Heading>
      <Group gap="xs" mb="md">
        {odataOf(details.data) && <Address url={odataOf(details.data)} label="the address of the service" />}
        {restOf(details.data) && <Address url={restOf(details.data)} label="the address of plain REST" />}
        <Text size="sm" c="dimmed">
          from {details.data.sources.length === 1 ? 'the source' : 'the sources'} {details.data.sources.join(', ')},
          revision {details.data.revision}
        </Text>
      </Group>
      <Grid gap="lg">
        <Grid.Col span={{ base: 12, md: 3 }}>
          <nav aria-label="Entity sets">
            {details.data.sets.map((set, index) => (
              <Fragment key={set.name}>
                {set.query?.group && set.query.group !== details.data.sets[index - 1]?.query?.group && (
                  <Text size="xs" fw={650} c="dimmed" mt="sm" ml="sm">
                    {set.query.group}
                  </Text>
                )}
                <NavLink
                  component={Link}
                  to={`?set=${encodeURIComponent(set.name)}`}
                  replace
                  active={set === chosen}
                  label={set.name}
                  description={describe(set)}
                />
              </Fragment>
            ))}
          </nav>
        </Grid.Col>
        <Grid.Col span={{ base: 12, md: 9 }}>{chosen && <SetDetails service={details.data} set={chosen} />}</Grid.Col>
      </Grid>
    </>
  );
}

const gives = { rows: 'rows', row: 'one row', value: 'one value', nothing: 'nothing' };

function describe(set: SetInfo): string {
  const kind = set.query
    ? ''
    : set.kind === 'function'
      ? ', without a key'
      : set.kind === 'contained'
        ? `, part of ${set.containedIn}`
        : '';
  const word = set.kind === 'action' ? 'action' : 'query';
  return set.query ? `${word}, gives ${gives[set.query.gives]}` : `from ${set.from}${kind}`;
}

/** What a query takes, and its statement. */
function QueryDetails({ query }: { query: QueryInfo }) {
  return (
    <>
      {query.parameters.length > 0 && (
        <>
          <Title order={4} size="h5" mt="md" mb={4}>
            Parameters
          </Title>
          <Table verticalSpacing={4} striped>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Name</Table.Th>
                <Table.Th>Type</Table.Th>
                <Table.Th>When left out</Table.Th>
                <Table.Th>Example</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {query.parameters.map((parameter) => (
                <Table.Tr key={parameter.name}>
                  <Table.Td>
                    {parameter.name}
                    {parameter.description && (
                      <Text size="xs" c="dimmed">
                        {parameter.description}
                      </Text>
                    )}
                  </Table.Td>
                  <Table.Td>
                    {parameter.facets}
                    {parameter.values && (
                      <Text size="xs" c="dimmed">
                        one of {parameter.values.join(', ')}
                      </Text>
                    )}
                  </Table.Td>
                  <Table.Td>{parameter.isRequired ? 'refused' : (parameter.defaultValue ?? 'null')}</Table.Td>
                  <Table.Td>{query.examples[parameter.name]}</Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </>
      )}
      {query.takesFromCaller && (
        <Text size="sm" mt={4}>
          Some values are those of the caller, who cannot set them.
        </Text>
      )}
      <Title order={4} size="h5" mt="md" mb={4}>
        {query.statement.trimEnd().replace(/;$/, '').includes(';') ? 'Statements' : 'Statement'}
      </Title>
      <Code block>{query.statement}</Code>
    </>
  );
}

function SetDetails({ service, set }: { service: ServiceDetails; set: SetInfo }) {
  return (
    <Paper component="section" aria-label={`Entity set ${set.name}`}>
      <Group justify="space-between" mb="xs">
        <Group gap="sm">
          <Title order={3} size="h4">
            {set.name}
          </Title>
          <Text c="dimmed">of type {set.type}</Text>
          <Badge tt="none" variant="light" color={set.isReadable ? 'cyan' : 'gray'}>
            {set.kind === 'action' ? 'may call' : 'may read'}: {set.rules.read}
          </Badge>
        </Group>
        {set.kind !== 'contained' && (
          <Button
            component={Link}
            to={`/services/${service.name}/${encodeURIComponent(set.name)}`}
            size="xs"
            rightSection={<IconArrowRight size={14} />}
          >
            {set.query ? 'Call it' : 'Look at the data'}
          </Button>
        )}
      </Group>
      {set.kind !== 'contained' && (
        <Address
          url={
            odataOf(service) +
            (set.query && set.kind !== 'action'
              ? (callPath(set.name, set.query.parameters, set.query.examples) ?? '')
              : encodeURIComponent(set.name))
          }
          label="the address of the set"
        />
      )}
      <Text size="sm" c="dimmed" mt={4}>
        {set.kind === 'action'
          ? 'May change something: it is called by POST, and all of it is done or nothing.'
          : `Allows ${set.allow.join(', ')}. Pages of ${set.pageSize} rows, at most ${set.largestPage} on request.`}
        {set.requiresFilter && ' Read with a filter only.'}
        {set.version && ` Tags from ${set.version}.`}
        {set.changes && ` Changes followed by ${set.changes}.`}
        {set.derived.length > 0 && ` Derived types: ${set.derived.map((derived) => derived.name).join(', ')}.`}
        {set.hidden.length > 0 && ` Hidden columns: ${set.hidden.join(', ')}.`}
      </Text>
      {set.query && <QueryDetails query={set.query} />}
      {set.properties.length > 0 && (
        <Title order={4} size="h5" mt="md" mb={4}>
          {set.query ? 'What it gives' : 'Properties'}
        </Title>
      )}
      <Table.ScrollContainer minWidth={520}>
        <Table verticalSpacing={4} striped>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>Name</Table.Th>
              <Table.Th>Type</Table.Th>
              <Table.Th>May be null</Table.Th>
              <Table.Th>Column</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {set.properties.map((property) => (
              <Table.Tr key={property.name}>
                <Table.Td fw={property.isKey ? 650 : undefined}>
                  <Group gap={6} wrap="nowrap">
                    {property.name}
                    {property.isKey && <IconKey size={15} aria-label="part of the key" role="img" />}
                  </Group>
                </Table.Td>
                <Table.Td>
                  {property.facets}
                  {notesOf(property, set) && (
                    <Text size="xs" c="dimmed">
                      {notesOf(property, set)}
                    </Text>
                  )}
                </Table.Td>
                <Table.Td>{property.nullable ? 'yes' : 'no'}</Table.Td>
                <Table.Td c="dimmed">
                  {property.members?.map((member) => member.column).join(', ') ??
                    (property.expression ? '' : property.column)}
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </Table.ScrollContainer>
      {set.valid.length > 0 && <RowRules set={set} />}
      <Title order={4} size="h5" mt="md" mb={4}>
        Relations
      </Title>
      {set.navigations.length === 0 ? (
        <Empty>
          No relation leads from here: there is no foreign key to or from a published set, and none is declared.
        </Empty>
      ) : (
        <Table verticalSpacing={4}>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>Name</Table.Th>
              <Table.Th>Leads to</Table.Th>
              <Table.Th>Through</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {set.navigations.map((navigation) => (
              <RelationRow key={navigation.name} navigation={navigation} />
            ))}
          </Table.Tbody>
        </Table>
      )}
    </Paper>
  );
}

/** What written rows must be. */
function RowRules({ set }: { set: SetInfo }) {
  return (
    <>
      <Title order={4} size="h5" mt="md" mb={4}>
        Rules of rows
      </Title>
      <Table verticalSpacing={4}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Every row</Table.Th>
            <Table.Th>Else people are told</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {set.valid.map((rule, index) => (
            <Table.Tr key={index}>
              <Table.Td>
                {rule.condition ?? `differs from others in ${rule.unique.join(', ')}`}
                {(rule.on || rule.who) && (
                  <Text size="xs" c="dimmed">
                    {[rule.on && `at ${rule.on} only`, rule.who && `for ${rule.who}`].filter(Boolean).join(', ')}
                  </Text>
                )}
              </Table.Td>
              <Table.Td>{rule.message ?? 'in built-in words'}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </>
  );
}

function RelationRow({ navigation }: { navigation: NavigationInfo }) {
  return (
    <Table.Tr>
      <Table.Td>{navigation.name}</Table.Td>
      <Table.Td>
        <Group gap={6} wrap="nowrap">
          {navigation.isCollection && <IconArrowsSplit2 size={15} aria-hidden />}
          <span>{navigation.isCollection ? 'many' : navigation.nullable ? 'one or none of' : 'one of'}</span>
          <Link to={`?set=${encodeURIComponent(navigation.target)}`} replace>
            {navigation.target}
          </Link>
        </Group>
      </Table.Td>
      <Table.Td c="dimmed">
        {navigation.through
          ? `the table ${navigation.through}`
          : navigation.joins.map((join) => `${join.own} = ${join.target}`).join(', ')}
        {navigation.isContained && ', as a part'}
        {navigation.isRemote && ', in another source'}
      </Table.Td>
    </Table.Tr>
  );
}
