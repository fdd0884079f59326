import { Anchor, Badge, Code, Paper, SimpleGrid, Table, Text, Title } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import type { Overview, ServiceTraffic } from '../../api/client';
import { fetchOverview } from '../../api/overview';
import { Heading } from '../../components/Heading';
import { Failed, Pending } from '../../components/States';
import { Minutes } from './Minutes';
import { ago, countsOf, durationOf, sizeOf } from './figures';

/** How often the page looks again, in milliseconds. */
const pause = 5_000;

/** How the service is doing, live. */
export function HomePage() {
  const overview = useQuery({
    queryKey: ['overview'],
    queryFn: fetchOverview,
    refetchInterval: pause,
  });
  return (
    <>
      <Heading way={[]} title="Overview">
        {overview.data && (
          <Text size="sm" c="dimmed">
            the last hour, live; started {ago(overview.data.started, overview.data.at)}
          </Text>
        )}
      </Heading>
      {overview.isPending && <Pending what="the overview" />}
      {overview.isError && <Failed error={overview.error} retry={overview.refetch} />}
      {overview.data && <Panels overview={overview.data} />}
    </>
  );
}

function Panels({ overview }: { overview: Overview }) {
  const troubles = troublesOf(overview);
  return (
    <>
      {troubles.length > 0 && (
        <Paper withBorder p="sm" mb="md" role="alert" aria-label="What needs somebody" className="troubles">
          <ul className="effects">
            {troubles.map((trouble, at) => (
              <li key={at}>{trouble}</li>
            ))}
          </ul>
        </Paper>
      )}
      <Services overview={overview} />
      <SimpleGrid cols={{ base: 1, md: 2 }} spacing="md" mt="md">
        <Busiest overview={overview} />
        <Sources overview={overview} />
        <Slow overview={overview} />
        <Callers overview={overview} />
        <Refusals overview={overview} />
        <Publications overview={overview} />
      </SimpleGrid>
    </>
  );
}

function troublesOf(overview: Overview): ReactNode[] {
  return [
    ...(overview.problem ? [`The last good state is served: ${overview.problem}`] : []),
    ...overview.sources
      .filter((source) => source.fault)
      .map((source) => `${source.title} does not answer: ${source.fault}`),
    ...overview.drift
      .filter((drift) => drift.breaks)
      .map((drift) => (
        <span key={drift.text}>
          A database has moved: {drift.service && `${drift.service}: `}
          {drift.text} <Link to="/publishing">Look at the publications</Link>
        </span>
      )),
    ...overview.limits.busiest
      .filter((caller) => caller.isNear)
      .map((caller) => `${caller.who} is near the limit: ${caller.requests} requests in a minute`),
  ];
}

function Panel({ title, children, empty }: { title: string; children?: ReactNode; empty?: string }) {
  return (
    <Paper withBorder p="sm" component="section" aria-label={title} miw={0}>
      <Title order={3} size="h5" mb={6}>
        {title}
      </Title>
      {empty ? (
        <Text size="sm" c="dimmed">
          {empty}
        </Text>
      ) : (
        <div className="panel">{children}</div>
      )}
    </Paper>
  );
}

function Services({ overview }: { overview: Overview }) {
  if (overview.services.length === 0)
    return (
      <Panel title="Services">
        <Text size="sm">
          There is no service yet. <Link to="/sources">Connect a database</Link>, tick tables and views, and publish
          them.
        </Text>
      </Panel>
    );
  const most = Math.max(1, ...overview.services.flatMap((service) => service.minutes.map((minute) => minute.requests)));
  return (
    <Panel title="Services">
      <Table verticalSpacing={4} aria-label="Services">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Service</Table.Th>
            <Table.Th>Requests by minute</Table.Th>
            <Table.Th className="number">Requests</Table.Th>
            <Table.Th className="number">Refused</Table.Th>
            <Table.Th className="number">Failed</Table.Th>
            <Table.Th className="number">Mean</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {overview.services.map((service) => (
            <ServiceRow key={service.name} service={service} most={most} />
          ))}
        </Table.Tbody>
      </Table>
    </Panel>
  );
}

function ServiceRow({ service, most }: { service: ServiceTraffic; most: number }) {
  const counts = countsOf(service.minutes);
  return (
    <Table.Tr>
      <Table.Td>
        <Anchor component={Link} to={`/services/${service.name}`} size="sm" fw={600}>
          {service.title}
        </Anchor>
        {service.isOff && (
          <Badge tt="none" ml="xs" color="yellow" variant="light">
            switched off
          </Badge>
        )}
      </Table.Td>
      <Table.Td>
        <Minutes minutes={service.minutes} most={most} label={`Requests of ${service.title} by minute`} />
      </Table.Td>
      <Table.Td className="number">{counts.requests.toLocaleString()}</Table.Td>
      <Table.Td className="number">{counts.refused.toLocaleString()}</Table.Td>
      <Table.Td className="number" c={counts.failed > 0 ? 'var(--mantine-color-error)' : undefined}>
        {counts.failed.toLocaleString()}
      </Table.Td>
      <Table.Td className="number">
        {counts.requests > 0 ? durationOf(counts.milliseconds / counts.requests) : '–'}
      </Table.Td>
    </Table.Tr>
  );
}

function Busiest({ overview }: { overview: Overview }) {
  return (
    <Panel title="Where the time went" empty={overview.busiest.length > 0 ? undefined : 'Nothing was asked yet.'}>
      <Table verticalSpacing={2} aria-label="Sets that took most of the time">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Set</Table.Th>
            <Table.Th className="number">Requests</Table.Th>
            <Table.Th className="number">Mean</Table.Th>
            <Table.Th className="number">Slowest</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {overview.busiest.map((set) => (
            <Table.Tr key={`${set.service}/${set.set}`}>
              <Table.Td>
                {set.set ? (
                  <Anchor component={Link} to={`/services/${set.service}/${set.set}`} size="sm">
                    {set.service}/{set.set}
                  </Anchor>
                ) : (
                  `${set.service}, its documents`
                )}
              </Table.Td>
              <Table.Td className="number">{set.requests.toLocaleString()}</Table.Td>
              <Table.Td className="number">{durationOf(set.milliseconds / set.requests)}</Table.Td>
              <Table.Td className="number">{durationOf(set.slowest)}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Panel>
  );
}

function Sources({ overview }: { overview: Overview }) {
  return (
    <Panel title="Databases" empty={overview.sources.length > 0 ? undefined : 'None is connected.'}>
      <Table verticalSpacing={2} aria-label="Databases">
        <Table.Tbody>
          {overview.sources.map((source) => (
            <Table.Tr key={source.name}>
              <Table.Td>
                <Anchor component={Link} to={`/sources?${new URLSearchParams({ source: source.name })}`} size="sm">
                  {source.title}
                </Anchor>
              </Table.Td>
              <Table.Td>
                <Badge tt="none" variant="light" color={source.fault ? 'red' : 'green'}>
                  {source.fault ? 'does not answer' : 'answers'}
                </Badge>
              </Table.Td>
              <Table.Td className="number">{durationOf(source.milliseconds)}</Table.Td>
              <Table.Td>
                <Text size="xs" c="dimmed" className="address">
                  {source.fault ?? source.address}
                </Text>
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {overview.drift.length > 0 && (
        <>
          <Text size="sm" fw={600} mt="xs">
            Moved away from what is published
          </Text>
          <ul className="effects">
            {overview.drift.map((drift) => (
              <li key={`${drift.service} ${drift.text}`}>
                <Text size="sm">
                  {drift.service && `${drift.service}: `}
                  {drift.text}
                </Text>
              </li>
            ))}
          </ul>
        </>
      )}
      <Text size="sm" c="dimmed" mt="xs">
        Memory: {sizeOf(overview.memory.used)} held, {sizeOf(overview.memory.peak)} at most, of{' '}
        {sizeOf(overview.memory.most)}
      </Text>
    </Panel>
  );
}

function Slow({ overview }: { overview: Overview }) {
  return (
    <Panel
      title="Slow statements"
      empty={
        overview.slow.length > 0 ? undefined : `None took ${overview.slowSeconds} seconds or more since the start.`
      }
    >
      {overview.slow.map((statement) => (
        <details key={statement.service + statement.sql}>
          <summary>
            {statement.service}/{statement.set}, {durationOf(statement.seconds * 1000)}
            {statement.count > 1 && `, ${statement.count} times`}, last {ago(statement.last, overview.at)}
          </summary>
          <Code block tabIndex={0} aria-label="Statement">
            {statement.sql}
          </Code>
          {statement.plan.length > 0 && (
            <Code block mt={4} tabIndex={0} aria-label="Plan">
              {statement.plan.join('\n')}
            </Code>
          )}
        </details>
      ))}
    </Panel>
  );
}

function Callers({ overview }: { overview: Overview }) {
  const { perMinute, atOnce, busiest } = overview.limits;
  const isLimited = perMinute !== undefined || atOnce !== undefined;
  return (
    <Panel
      title="Callers and their limits"
      empty={
        !isLimited
          ? 'No limit is declared for callers.'
          : busiest.length === 0
            ? 'Nobody asks at the moment.'
            : undefined
      }
    >
      <Text size="sm" c="dimmed" mb={4}>
        {[perMinute && `${perMinute} requests in a minute`, atOnce && `${atOnce} at once`].filter(Boolean).join(', ')}
      </Text>
      <Table verticalSpacing={2} aria-label="Callers who ask most">
        <Table.Tbody>
          {busiest.map((caller) => (
            <Table.Tr key={caller.who}>
              <Table.Td>{caller.who}</Table.Td>
              <Table.Td className="number">{caller.requests.toLocaleString()} in a minute</Table.Td>
              <Table.Td>
                {caller.isNear && (
                  <Badge tt="none" variant="light" color={caller.limited > 0 ? 'red' : 'yellow'}>
                    {caller.limited > 0 ? `${caller.limited} refused` : 'near the limit'}
                  </Badge>
                )}
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Panel>
  );
}

function Refusals({ overview }: { overview: Overview }) {
  const empty = !overview.isAuditKept
    ? 'The workspace keeps no audit log.'
    : overview.refusals.length === 0
      ? 'Nobody was refused.'
      : undefined;
  return (
    <Panel title="Recent refusals" empty={empty}>
      <Table verticalSpacing={2} aria-label="Recent refusals">
        <Table.Tbody>
          {overview.refusals.map((event, at) => (
            <Table.Tr key={`${event.time} ${at}`}>
              <Table.Td title={event.time} className="whole">
                {ago(event.time, overview.at)}
              </Table.Td>
              <Table.Td>{event.caller ?? 'anonymous'}</Table.Td>
              <Table.Td className="address">{[event.method, event.path].filter(Boolean).join(' ')}</Table.Td>
              <Table.Td className="whole">{[event.status, event.code].filter(Boolean).join(' ')}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      <Anchor component={Link} to="/audit" size="sm">
        The whole log
      </Anchor>
    </Panel>
  );
}

function Publications({ overview }: { overview: Overview }) {
  return (
    <Panel
      title="Recent publications"
      empty={overview.publications.length > 0 ? undefined : 'Nothing was published yet; the files are followed.'}
    >
      <Table verticalSpacing={2} aria-label="Recent publications">
        <Table.Tbody>
          {overview.publications.map((one) => (
            <Table.Tr key={one.number}>
              <Table.Td>
                <Anchor component={Link} to="/publishing" size="sm">
                  Revision {one.number}
                </Anchor>
              </Table.Td>
              <Table.Td title={one.at}>{ago(one.at, overview.at)}</Table.Td>
              <Table.Td>{one.by}</Table.Td>
              <Table.Td>{one.message}</Table.Td>
              <Table.Td>
                {one.breaking > 0 && (
                  <Badge tt="none" variant="light" color="orange">
                    breaks
                  </Badge>
                )}
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Panel>
  );
}
