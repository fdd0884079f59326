import { Group, Text } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useParams, useSearchParams } from 'react-router';
import { fetchAccess, fetchService, restOf, viewAs } from '../../api/client';
import { Address } from '../../components/Address';
import { CallerSelect, callersOf, nobody, viewerOf } from '../../components/CallerSelect';
import { Heading } from '../../components/Heading';
import { Failed, Pending } from '../../components/States';
import { Viewer } from './Viewer';

/** What one caller may do with a service on the plain REST face, from its OpenAPI document; requests can be sent as that caller. */
export function ReferencePage() {
  const { service = '' } = useParams();
  // Who asks lives in the page's own address, so that it can be kept and sent to others.
  const [search, setSearch] = useSearchParams();
  const who = search.get('as') ?? nobody;
  const details = useQuery({ queryKey: ['service', service], queryFn: () => fetchService(service) });
  const access = useQuery({ queryKey: ['access', service], queryFn: () => fetchAccess(service) });
  const root = details.data && restOf(details.data);
  const document = useQuery({
    queryKey: ['openapi', root, who],
    queryFn: () => description(`${new URL(root ?? '').pathname}openapi.json`, who),
    enabled: Boolean(root),
  });
  const error = details.error ?? access.error ?? document.error;
  return (
    <>
      <Heading
        way={[
          { label: 'Services', to: '/services' },
          { label: details.data?.title ?? service, to: `/services/${service}` },
        ]}
        title="REST reference"
      >
        <CallerSelect
          callers={callersOf(access.data ?? [])}
          who={who}
          onChange={(as) => setSearch({ as }, { replace: true })}
        />
      </Heading>
      {root && (
        <Group gap="xs">
          <Address url={`${root}openapi.json`} label="the address of the description" />
          <Text size="sm" c="dimmed">
            Reads are sent as the chosen caller. A change is sent with what you enter under Authorize.
          </Text>
        </Group>
      )}
      {root === '' && <Text mt="md">This service does not stand on the plain REST face.</Text>}
      {error && <Failed error={error} retry={document.refetch} />}
      {!error && root && document.isPending && <Pending what="the description" />}
      {document.data && document.data.spec === null && (
        <Text mt="md">For this caller there is nothing here: the description answers {document.data.status}.</Text>
      )}
      {document.data?.spec && <Viewer key={who} spec={document.data.spec} viewer={viewerOf(who, '')} />}
    </>
  );
}

async function description(path: string, who: string): Promise<{ status: number; spec: object | null }> {
  const seen = await viewAs(path, viewerOf(who, ''));
  return { status: seen.status, spec: seen.status === 200 ? (JSON.parse(seen.body) as object) : null };
}
