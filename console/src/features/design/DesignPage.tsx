import {
  ActionIcon,
  Badge,
  Button,
  Group,
  NavLink,
  Select,
  Stack,
  Tabs,
  Text,
  TextInput,
  Tooltip,
} from '@mantine/core';
import { useHotkeys, useLocalStorage } from '@mantine/hooks';
import { IconAlertTriangle, IconArrowBackUp, IconArrowForwardUp, IconCode, IconTable } from '@tabler/icons-react';
import { useQuery } from '@tanstack/react-query';
import { type ReactNode, useEffect, useMemo, useState } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import { fetchSources, type SetDesignInfo } from '../../api/client';
import { fetchSchema } from '../../api/draft';
import { Heading } from '../../components/Heading';
import { Empty, Failed, Pending } from '../../components/States';
import { Editor } from '../draft/Editor';
import { Findings } from '../draft/Findings';
import { WriteButtons, WriteFaults } from '../draft/WriteBar';
import { AccessForm } from './AccessForm';
import { ColumnsGrid } from './ColumnsGrid';
import { Changing } from './QuickCheckbox';
import { Edited } from './edited';
import { RelationsForm } from './RelationsForm';
import { QueryForm } from './QueryForm';
import { RowRules } from './RowRules';
import { RowsPanel } from './RowsPanel';
import { ServiceForm } from './ServiceForm';
import { SetForm } from './SetForm';
import { typesOf } from './TypesForm';
import { type Design, useDesign } from './useDesign';
import { textAt } from './words';

/** A service changed by forms, with its text beside them: either side follows the other. */
export function DesignPage() {
  const { service = '' } = useParams();
  // Everything below belongs to one file.
  return <ServiceDesign key={service} service={service} />;
}

function ServiceDesign({ service }: { service: string }) {
  const state = useDesign(service);
  const { draft, design } = state;
  const [hasText, setText] = useLocalStorage({
    key: 'gable-text',
    defaultValue: true,
    getInitialValueInEffect: false,
  });
  useHotkeys([
    ['mod+z', () => state.undo()],
    ['mod+shift+z', () => state.redo()],
    ['mod+y', () => state.redo()],
    ['mod+s', () => draft.mine && !draft.theirs && draft.write.mutate(undefined)],
  ]);
  const edited = useMemo(() => ({ service, text: draft.text }), [service, draft.text]);
  if (draft.files.isPending) return <Pending what="the draft" />;
  if (draft.files.isLoadingError) return <Failed error={draft.files.error} retry={draft.files.refetch} />;
  if (!draft.isKnown && !draft.mine) return <Empty>The draft has no service {service}.</Empty>;
  if (draft.stored.isLoadingError) return <Failed error={draft.stored.error} retry={draft.stored.refetch} />;
  if (!design && state.answer.isError) return <Failed error={state.answer.error} retry={state.answer.refetch} />;
  if (!design && !state.answer.data) return <Pending what="the design" />;
  return (
    <>
      <Heading
        way={[
          { label: 'Services', to: '/services' },
          { label: service, to: `/services/${service}` },
        ]}
        title="Design"
      >
        <Group gap="xs">
          {!draft.isEditable && (
            <Badge tt="none" color="yellow" variant="light" size="lg">
              read only: {draft.files.data?.why}
            </Badge>
          )}
          <ToolButton label="Undo" run={state.undo}>
            <IconArrowBackUp size={16} />
          </ToolButton>
          <ToolButton label="Redo" run={state.redo}>
            <IconArrowForwardUp size={16} />
          </ToolButton>
          <Button
            size="xs"
            variant="default"
            aria-pressed={hasText}
            leftSection={<IconCode size={15} aria-hidden />}
            onClick={() => setText(!hasText)}
          >
            Text
          </Button>
          <WriteButtons draft={draft} />
        </Group>
      </Heading>
      <WriteFaults draft={draft} />
      {state.failure && <Failed error={state.failure} />}
      <div className={hasText ? 'design with-text' : 'design'}>
        {design ? (
          <Changing value={state.isChanging}>
            <Edited value={edited}>
              <Forms service={service} state={state} />
            </Edited>
          </Changing>
        ) : (
          <Empty>The text cannot be read as a service yet. Its faults stand beside it.</Empty>
        )}
        <TextSide state={state} isShown={hasText || !design} />
      </div>
    </>
  );
}

function ToolButton({ label, run, children }: { label: string; run: () => void; children: ReactNode }) {
  return (
    <Tooltip label={label}>
      <ActionIcon variant="default" size={30} aria-label={label} onClick={run}>
        {children}
      </ActionIcon>
    </Tooltip>
  );
}

/** The text stays there while it is hidden, since it holds what can be undone. */
function TextSide({ state, isShown }: { state: Design; isShown: boolean }) {
  const { draft } = state;
  const schema = useQuery({
    queryKey: ['schema', 'service'],
    queryFn: () => fetchSchema('service'),
    staleTime: Infinity,
  });
  const here = useMemo(
    () => state.findings.filter((finding) => finding.file === draft.file),
    [state.findings, draft.file],
  );
  return (
    <Stack gap="xs" miw={0} className="text-side" style={isShown ? undefined : { display: 'none' }}>
      <Editor
        file={draft.file}
        text={draft.text}
        schema={schema.data}
        findings={here}
        isEditable={draft.isEditable}
        change={draft.type}
        save={() => draft.mine && !draft.theirs && draft.write.mutate(undefined)}
        take={state.takeEditor}
      />
      <Findings findings={state.findings} file={draft.file} isPending={state.isPending} />
    </Stack>
  );
}

/** Stands before the name of a query where an address names a set. */
const prefix = 'query:';

/** A query to begin with, over a table that is published anyway. */
function freshQuery(taken: string[], from = 'the_table'): { name: string; select: string } {
  let number = 1;
  while (taken.includes(`Query${number}`)) number++;
  return { name: `Query${number}`, select: `SELECT * FROM ${from}` };
}

/** Offers the functions and procedures of a source; its list is fetched when somebody asks for it. */
function AddRoutine({ source, add }: { source: string; add: (routine: string) => void }) {
  const [isOpen, setOpen] = useState(false);
  const sources = useQuery({ queryKey: ['sources'], queryFn: fetchSources, enabled: isOpen });
  const known = sources.data?.find((one) => one.name === source)?.routines ?? [];
  const names = [...new Set(known.map((routine) => routine.name))];
  if (!isOpen)
    return (
      <Button size="xs" variant="subtle" mt={4} onClick={() => setOpen(true)}>
        Add a routine
      </Button>
    );
  return (
    <Select
      size="xs"
      mt={4}
      aria-label="Routine of the database"
      placeholder={sources.isPending ? 'Loading …' : names.length > 0 ? 'Which one?' : 'The database has none'}
      data={names}
      value={null}
      searchable
      autoFocus
      onChange={(routine) => {
        setOpen(false);
        if (routine) add(routine);
      }}
    />
  );
}

/** A public name from that of a routine. */
function nameOf(routine: string): string {
  return routine
    .split(/[^A-Za-z0-9]+/)
    .filter(Boolean)
    .map((word) => word.charAt(0).toUpperCase() + word.slice(1))
    .join('');
}

/** Stands for the service itself where an address names a set. */
const itself = '';

function Forms({ service, state }: { service: string; state: Design }) {
  const [search, setSearch] = useSearchParams();
  const [sought, setSought] = useState('');
  const [caller, setCaller] = useState('');
  const sets = state.design?.sets ?? [];
  // Held here, since the address follows a moment later, and a quick second click must not go back to what it says.
  const [view, setView] = useState({ set: search.get('set') ?? undefined, tab: search.get('tab') ?? 'columns' });
  // A set that gets another name stays the one that is shown.
  const [place, setPlace] = useState<number>();
  const named = sets.find((set) => set.name === view.set) ?? sets.find((set) => set.index === place);
  const queries = state.design?.queries ?? [];
  // A query that gets another name stays the one that is shown.
  const [queryPlace, setQueryPlace] = useState<string>();
  const asked = view.set?.startsWith(prefix)
    ? (queries.find((query) => prefix + query.name === view.set) ??
      queries.find((query) => query.path.join() === queryPlace))
    : undefined;
  if (asked && asked.path.join() !== queryPlace) setQueryPlace(asked.path.join());
  const chosen = view.set === itself || asked ? undefined : (named ?? sets[0]);
  if (chosen && chosen.index !== place) setPlace(chosen.index);
  const { tab } = view;
  const go = (part: Partial<typeof view>) => setView((now) => ({ ...now, ...part }));
  const shown = asked ? prefix + asked.name : (chosen?.name ?? itself);
  useEffect(() => {
    setSearch({ set: shown, tab }, { replace: true });
  }, [setSearch, shown, tab]);
  const line = asked?.line ?? chosen?.line ?? 1;
  const addQuery = () =>
    add(
      freshQuery(
        queries.map((query) => query.name),
        sets[0]?.from,
      ),
    );
  const add = (fresh: { name: string; select?: string; routine?: string }) => {
    const own = queries.filter((query) => query.path[0] === 'queries').length;
    state.change(own === 0 ? { path: ['queries'], value: [fresh] } : { path: ['queries', own], value: fresh });
    setQueryPlace(['queries', own].join());
    go({ set: prefix + fresh.name });
  };
  const { show } = state;
  useEffect(() => show(line), [show, line, shown]);
  const found = sets.filter((set) => `${set.name} ${set.from}`.toLowerCase().includes(sought.trim().toLowerCase()));
  if (!state.design) return null;
  return (
    <div className="forms">
      <nav aria-label="Sets of the draft">
        <TextInput
          size="xs"
          mb={4}
          aria-label="Search sets"
          placeholder="Search sets"
          value={sought}
          onChange={(event) => setSought(event.currentTarget.value)}
        />
        <div className="objects">
          <NavLink
            component="button"
            py={3}
            active={!chosen && !asked}
            label="Service"
            leftSection={<IconTable size={15} aria-hidden />}
            onClick={() => go({ set: itself })}
          />
          {found.map((set) => (
            <NavLink
              key={set.index}
              component="button"
              py={3}
              active={set === chosen}
              label={set.name}
              description={describe(set)}
              rightSection={
                !set.isBuilt ? (
                  <IconAlertTriangle size={15} role="img" aria-label="has faults" color="var(--mantine-color-error)" />
                ) : undefined
              }
              onClick={() => go({ set: set.name })}
            />
          ))}
        </div>
        {queries.length > 0 && (
          <Text size="xs" c="dimmed" mt="xs">
            Queries
          </Text>
        )}
        {queries.map((query) => (
          <NavLink
            key={query.path.join()}
            component="button"
            py={3}
            active={query === asked}
            label={query.name || 'a query'}
            description={query.changes ? 'changes something' : undefined}
            rightSection={
              !query.isBuilt ? (
                <IconAlertTriangle size={15} role="img" aria-label="has faults" color="var(--mantine-color-error)" />
              ) : undefined
            }
            onClick={() => go({ set: prefix + query.name })}
          />
        ))}
        {state.draft.isEditable && (
          <Button size="xs" variant="subtle" mt={4} onClick={addQuery}>
            Add a query
          </Button>
        )}
        {state.draft.isEditable && (
          <AddRoutine
            source={textAt(state.design.written, 'source')}
            add={(routine) => add({ name: nameOf(routine), routine })}
          />
        )}
        <Button size="xs" variant="subtle" component={Link} to="/sources" mt={4}>
          Add tables
        </Button>
      </nav>
      <div className="form">
        {asked ? (
          <QueryForm
            key={asked.path.join()}
            service={service}
            text={state.draft.text}
            query={asked}
            roles={state.design.roles}
            ownTypes={typesOf(state.design)}
            isEditable={state.draft.isEditable}
            change={state.change}
          />
        ) : chosen ? (
          <Tabs value={tab} onChange={(value) => go({ tab: value ?? 'columns' })} keepMounted={false}>
            <Tabs.List mb="sm">
              <Tabs.Tab value="columns">Columns</Tabs.Tab>
              <Tabs.Tab value="set">Name and key</Tabs.Tab>
              <Tabs.Tab value="relations">Relations</Tabs.Tab>
              <Tabs.Tab value="access">Access</Tabs.Tab>
              <Tabs.Tab value="rows">Rows</Tabs.Tab>
            </Tabs.List>
            <SetTab service={service} tab={tab} set={chosen} state={state} caller={caller} setCaller={setCaller} />
          </Tabs>
        ) : (
          <ServiceForm design={state.design} isEditable={state.draft.isEditable} change={state.change} />
        )}
      </div>
    </div>
  );
}

interface SetTabProps {
  service: string;
  tab: string;
  set: SetDesignInfo;
  state: Design;
  caller: string;
  setCaller: (caller: string) => void;
}

function SetTab({ service, tab, set, state, caller, setCaller }: SetTabProps) {
  const { change, design, draft } = state;
  const parts = { set, isEditable: draft.isEditable, change };
  const roles = design?.roles ?? [];
  const rows = (
    <RowsPanel service={service} set={set} text={draft.text} roles={roles} caller={caller} setCaller={setCaller} />
  );
  switch (tab) {
    case 'set':
      return <SetForm key={set.index} {...parts} />;
    case 'relations':
      return <RelationsForm {...parts} sets={design?.sets ?? []} />;
    case 'access':
      return (
        <Stack gap="lg">
          <AccessForm {...parts} roles={roles} />
          <RowRules {...parts} />
          {rows}
        </Stack>
      );
    case 'rows':
      return rows;
    default:
      return <ColumnsGrid {...parts} ownTypes={design ? typesOf(design) : []} />;
  }
}

function describe(set: SetDesignInfo): string {
  return set.from === set.name ? (set.kind ?? 'a SELECT') : `from ${set.from}`;
}
