import { Anchor, Badge, Button, Card, Group, Stack, Text } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { fetchServices, odataOf, restOf, type ServiceSummary } from '../../api/client';
import { Address } from '../../components/Address';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';

export function ServicesPage() {
  const services = useQuery({ queryKey: ['services'], queryFn: fetchServices });
  return (
    <>
      <Heading way={[]} title="Services" />
      {services.isPending && <Pending what="the services" />}
      {services.isError && <Failed error={services.error} retry={services.refetch} />}
      {services.data?.length === 0 && (
        <Empty>
          There is no service yet. <Link to="/sources">Connect a database</Link>, tick tables and views, and publish
          them.
        </Empty>
      )}
      <Stack gap="md" maw={900}>
        {services.data?.map((service) => (
          <ServiceCard key={service.name} service={service} />
        ))}
      </Stack>
    </>
  );
}

function ServiceCard({ service }: { service: ServiceSummary }) {
  const root = odataOf(service);
  const rest = restOf(service);
  return (
    <Card withBorder padding="md">
      <Group justify="space-between" mb="xs">
        <Anchor component={Link} to={`/services/${service.name}`} fw={650} size="lg">
          {service.title}
        </Anchor>
        <Group gap="xs">
          <Badge tt="none" variant="light" color={service.sets > 0 ? 'cyan' : 'gray'}>
            {service.sets > 0 ? `open to anyone: ${service.sets} sets` : 'not open to anyone'}
          </Badge>
          <Badge tt="none" variant="default" title="Changes with everything that is published">
            revision {service.revision}
          </Badge>
        </Group>
      </Group>
      {root && (
        <>
          <Row label="Service document">
            <Address url={root} label="the address of the service document" />
          </Row>
          <Row label="Metadata document">
            <Address url={`${root}$metadata`} label="the address of the metadata document" />
          </Row>
        </>
      )}
      {rest && (
        <Row label="Plain REST">
          <Address url={rest} label="the address of plain REST" />
        </Row>
      )}
      <Group mt="sm" gap="xs">
        <Button component={Link} to={`/services/${service.name}`} size="xs" variant="light">
          Sets
        </Button>
        {rest && (
          <Button component={Link} to={`/services/${service.name}/reference`} size="xs" variant="default">
            REST reference
          </Button>
        )}
        {root && service.sets > 0 && (
          <Button component={Link} to={`/services/${service.name}/metadata`} size="xs" variant="default">
            Read the metadata
          </Button>
        )}
      </Group>
    </Card>
  );
}

function Row({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <Group gap="xs" wrap="nowrap">
      <Text size="sm" c="dimmed" w={150}>
        {label}
      </Text>
      {children}
    </Group>
  );
}
