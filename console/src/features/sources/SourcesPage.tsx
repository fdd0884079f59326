import { Button, Grid, Group, Modal, Text, TextInput } from '@mantine/core';
import { IconSearch } from '@tabler/icons-react';
import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useDeferredValue, useRef, useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { fetchSources } from '../../api/client';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';
import { matches } from './matches';
import { ObjectPanel } from './ObjectView';
import { PublishChosen } from './PublishChosen';
import { SourceObjects } from './SourceObjects';

const RelationsPicture = lazy(() =>
  import('./RelationsPicture').then((module) => ({ default: module.RelationsPicture })),
);

/** What the databases offer: on the left a tree with a search over all objects, on the right one of them closely. */
export function SourcesPage() {
  const [search, setSearch] = useSearchParams();
  const sources = useQuery({ queryKey: ['sources'], queryFn: fetchSources });
  const [ticked, setTicked] = useState<{ source: string; names: string[] }>({ source: '', names: [] });
  const [isPublishing, setPublishing] = useState(false);
  const [isPictured, setPictured] = useState(false);
  const tree = useRef<HTMLDivElement>(null);
  const sought = search.get('search') ?? '';
  const wanted = useDeferredValue(sought);
  if (sources.isPending) return <Pending what="the sources" />;
  if (sources.isError) return <Failed error={sources.error} retry={sources.refetch} />;
  const found = sources.data.map((source) => ({ source, objects: source.objects.filter((o) => matches(o, wanted)) }));
  const named = found.find((f) => f.source.name === search.get('source'));
  const chosen = named?.source.objects.find((o) => o.name === search.get('object'));
  const first = (named && named.objects.length > 0 ? named : undefined) ?? found.find((f) => f.objects.length > 0);
  const shown = chosen && named ? { source: named.source, object: chosen } : undefined;
  const fallback = first?.objects[0] ? { source: first.source, object: first.objects[0] } : undefined;
  const current = shown ?? fallback;
  const ofSource = (source: string) => (ticked.source === source ? ticked.names : []);
  const seek = (text: string) => setSearch(text ? { search: text } : {}, { replace: true });
  return (
    <>
      <Heading way={[]} title="Sources">
        {ticked.names.length === 0 ? (
          <Button component={Link} to="/sources/new" size="xs" variant="default">
            Connect a database
          </Button>
        ) : (
          <Group gap="xs">
            <Text size="sm">{ticked.names.length} ticked</Text>
            <Button size="xs" variant="default" onClick={() => setTicked({ source: '', names: [] })}>
              Untick
            </Button>
            <Button size="xs" variant="default" onClick={() => setPictured(true)}>
              Picture
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
      {isPictured && (
        <Modal
          opened
          onClose={() => setPictured(false)}
          size="90%"
          title={`Relations of ${ticked.names.length} tables and views`}
          closeButtonProps={{ 'aria-label': 'Close' }}
        >
          <Suspense fallback={<Pending what="the picture" />}>
            <RelationsPicture source={ticked.source} names={ticked.names} isAround={false} />
          </Suspense>
        </Modal>
      )}
      <Grid gap="lg">
        <Grid.Col span={{ base: 12, md: 4, lg: 3 }}>
          <TextInput
            aria-label="Search tables, views and columns"
            placeholder="Search, or a pattern such as sta*"
            leftSection={<IconSearch size={15} aria-hidden />}
            size="sm"
            mb="sm"
            value={sought}
            onChange={(event) => seek(event.currentTarget.value)}
          />
          <div className="objects" ref={tree} style={{ position: 'relative' }}>
            {found.map(({ source, objects }) => (
              <SourceObjects
                key={source.name}
                source={source}
                objects={objects}
                sought={wanted}
                ticked={ofSource(source.name)}
                tick={(names) => setTicked({ source: source.name, names })}
                current={current?.source === source ? current.object : undefined}
                scroller={tree}
              />
            ))}
          </div>
        </Grid.Col>
        <Grid.Col span={{ base: 12, md: 8, lg: 9 }}>
          {current ? (
            <ObjectPanel source={current.source.name} name={current.object.name} />
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
