import { ActionIcon, Button, Checkbox, Group, Popover, ScrollArea, Stack, Text, TextInput } from '@mantine/core';
import { IconColumns3, IconFilterPlus, IconSearch, IconX } from '@tabler/icons-react';
import { useState } from 'react';
import type { SetInfo } from '../../api/client';
import { and, conditionsOf, type DataQuery, exampleFilter, joined } from '../../api/query';
import { FilterBuilder } from './FilterBuilder';

interface QueryBarProps {
  set: SetInfo;
  query: DataQuery;
  change: (part: Partial<DataQuery>) => void;
}

/** Conditions, search and columns in one bar. */
export function QueryBar({ set, query, change }: QueryBarProps) {
  return (
    <Group gap="xs" align="start" wrap="wrap" flex={1} role="group" aria-label="What is asked for">
      <Conditions key={query.filter} set={set} filter={query.filter} apply={(filter) => change({ filter })} />
      {set.searched.length > 0 && (
        <SearchField
          key={`search ${query.search}`}
          searched={set.searched}
          search={query.search}
          apply={(search) => change({ search })}
        />
      )}
      <Columns
        names={set.properties.map((property) => property.name)}
        chosen={query.select}
        choose={(select) => change({ select })}
      />
    </Group>
  );
}

/** The conditions of a filter as chips that can be changed and removed, and a field for another one. */
function Conditions({ set, filter, apply }: { set: SetInfo; filter: string; apply: (filter: string) => void }) {
  const [text, setText] = useState('');
  const [isOpen, setOpen] = useState(false);
  const parts = conditionsOf(filter);
  const without = (index: number) => joined(parts.filter((_, at) => at !== index));
  return (
    <div className="conditions">
      {parts.map((part, index) => (
        <Chip
          key={`${index} ${part}`}
          text={part}
          change={(next) => apply(joined(parts.map((old, at) => (at === index ? next : old))))}
          remove={() => apply(without(index))}
        />
      ))}
      <form
        className="another"
        onSubmit={(event) => {
          event.preventDefault();
          if (text.trim()) apply(and(filter, text.trim()));
        }}
      >
        <TextInput
          aria-label="Filter"
          variant="unstyled"
          size="xs"
          placeholder={parts.length === 0 ? `Filter, such as ${exampleFilter(set.properties)}` : 'and …'}
          value={text}
          onChange={(event) => setText(event.currentTarget.value)}
          onKeyDown={(event) => {
            if (event.key === 'Backspace' && text === '' && parts.length > 0) apply(without(parts.length - 1));
          }}
          spellCheck={false}
        />
      </form>
      <Popover opened={isOpen} onChange={setOpen} position="bottom-end" withArrow trapFocus shadow="md">
        <Popover.Target>
          <ActionIcon variant="subtle" color="gray" aria-label="Build a condition" onClick={() => setOpen(!isOpen)}>
            <IconFilterPlus size={17} />
          </ActionIcon>
        </Popover.Target>
        <Popover.Dropdown>
          <FilterBuilder properties={set.properties} add={(added) => apply(and(filter, added))} />
        </Popover.Dropdown>
      </Popover>
    </div>
  );
}

function Chip({ text, change, remove }: { text: string; change: (text: string) => void; remove: () => void }) {
  const [isOpen, setOpen] = useState(false);
  const [edited, setEdited] = useState(text);
  return (
    <Popover opened={isOpen} onChange={setOpen} position="bottom-start" withArrow trapFocus shadow="md">
      <span className="chip">
        <Popover.Target>
          <button type="button" title="Change this condition" onClick={() => setOpen(!isOpen)}>
            {text}
          </button>
        </Popover.Target>
        <button type="button" aria-label={`Remove ${text}`} onClick={remove}>
          <IconX size={13} aria-hidden />
        </button>
      </span>
      <Popover.Dropdown>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            if (edited.trim()) change(edited.trim());
          }}
        >
          <Group gap="xs" wrap="nowrap">
            <TextInput
              aria-label="Condition"
              size="xs"
              w={320}
              value={edited}
              onChange={(event) => setEdited(event.currentTarget.value)}
              spellCheck={false}
              data-autofocus
            />
            <Button size="xs" type="submit">
              Apply
            </Button>
          </Group>
        </form>
      </Popover.Dropdown>
    </Popover>
  );
}

interface SearchFieldProps {
  searched: string[];
  search: string;
  apply: (search: string) => void;
}

function SearchField({ searched, search, apply }: SearchFieldProps) {
  const [text, setText] = useState(search);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        apply(text.trim());
      }}
    >
      <TextInput
        aria-label="Search"
        title={`Words and "phrases" in ${searched.join(', ')}; AND, OR and NOT between them. Enter searches.`}
        placeholder="Search"
        leftSection={<IconSearch size={14} aria-hidden />}
        value={text}
        onChange={(event) => setText(event.currentTarget.value)}
        size="xs"
        w={180}
        spellCheck={false}
      />
    </form>
  );
}

interface ColumnsProps {
  names: string[];
  /** Empty = all. */
  chosen: string[];
  choose: (names: string[]) => void;
}

function Columns({ names, chosen, choose }: ColumnsProps) {
  const [sought, setSought] = useState('');
  const isShown = (name: string) => chosen.length === 0 || chosen.includes(name);
  const turn = (name: string) => {
    const next = names.filter((one) => (one === name ? !isShown(one) : isShown(one)));
    choose(next.length === names.length ? [] : next);
  };
  return (
    <Popover position="bottom-end" withArrow trapFocus shadow="md">
      <Popover.Target>
        <Button size="xs" variant="default" leftSection={<IconColumns3 size={15} aria-hidden />}>
          Columns{chosen.length > 0 && ` ${chosen.length} of ${names.length}`}
        </Button>
      </Popover.Target>
      <Popover.Dropdown>
        <Stack gap="xs">
          {names.length > 12 && (
            <TextInput
              aria-label="Search columns"
              size="xs"
              placeholder="Search"
              value={sought}
              onChange={(event) => setSought(event.currentTarget.value)}
            />
          )}
          <ScrollArea.Autosize mah={320}>
            <Stack gap={6}>
              {names
                .filter((name) => name.toLowerCase().includes(sought.toLowerCase()))
                .map((name) => (
                  <Checkbox key={name} size="xs" label={name} checked={isShown(name)} onChange={() => turn(name)} />
                ))}
            </Stack>
          </ScrollArea.Autosize>
          {chosen.length > 0 && (
            <Button size="compact-xs" variant="subtle" onClick={() => choose([])}>
              Show all
            </Button>
          )}
          <Text size="xs" c="dimmed">
            What is not shown is not asked for.
          </Text>
        </Stack>
      </Popover.Dropdown>
    </Popover>
  );
}
