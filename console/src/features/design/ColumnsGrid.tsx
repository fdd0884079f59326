import { ActionIcon, Autocomplete, Group, SimpleGrid, Table, Text } from '@mantine/core';
import { IconChevronDown, IconChevronRight, IconGripVertical, IconKey } from '@tabler/icons-react';
import { Fragment, useState } from 'react';
import type { ColumnDesignInfo, SetDesignInfo } from '../../api/client';
import type { Change } from '../../api/design';
import { ColumnData } from './ColumnData';
import { CommitInput } from './CommitInput';
import { QuickCheckbox } from './QuickCheckbox';
import { groupChanges } from './groups';
import { typeNames } from './typeNames';
import { listAt, numberOf, textAt, valueAt } from './words';

interface ColumnsGridProps {
  set: SetDesignInfo;
  isEditable: boolean;
  /** Names of the service's own types. */
  ownTypes: string[];
  change: (...changes: Change[]) => void;
}

/** The words of a column beside its name and type, with what they mean. */
const words: { word: string; label: string; hint: string; kind?: 'list' | 'number' }[] = [
  { word: 'measured-in', label: 'Measured in', hint: 'm, °C, km² …' },
  { word: 'default', label: 'Default', hint: 'when none is sent' },
  { word: 'minimum', label: 'Minimum', hint: '', kind: 'number' },
  { word: 'maximum', label: 'Maximum', hint: '', kind: 'number' },
  { word: 'min-length', label: 'Shortest text', hint: 'characters', kind: 'number' },
  { word: 'max-length', label: 'Longest text', hint: 'characters', kind: 'number' },
  { word: 'pattern', label: 'Pattern', hint: 'a regular expression' },
  { word: 'values', label: 'Values', hint: 'divided by commas', kind: 'list' },
  { word: 'message', label: 'Message', hint: 'when a rule is broken' },
];

/** A set's columns: which are seen, under which names and types, and what is said of them. */
export function ColumnsGrid({ set, isEditable, ownTypes, change }: ColumnsGridProps) {
  const [open, setOpen] = useState<string>();
  const [dragged, setDragged] = useState<string>();
  const shown = set.columns.filter((column) => column.isShown).map((column) => column.column);
  /** Puts a shown column in the place of another; the order of what is shown says the order of the properties. */
  const move = (column: string, place: number) => {
    const order = moved(shown, column, place);
    if (order.join() === shown.join()) return;
    const isOwn = order.join() === ownOrder(set).join();
    change({ set: set.index, path: ['hide'] }, { set: set.index, path: ['show'], value: isOwn ? undefined : order });
  };
  return (
    <Table.ScrollContainer minWidth={470} aria-label={`Columns of ${set.name}`}>
      <Table verticalSpacing={2} horizontalSpacing={4} stickyHeader>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Shown</Table.Th>
            <Table.Th>Column</Table.Th>
            <Table.Th>Public name</Table.Th>
            <Table.Th>Type</Table.Th>
            <Table.Th>Description</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {set.columns.map((column) => (
            <Fragment key={column.column}>
              <ColumnRow
                set={set}
                column={column}
                isEditable={isEditable}
                ownTypes={ownTypes}
                isOpen={open === column.column}
                place={shown.indexOf(column.column)}
                drag={{
                  start: () => setDragged(column.column),
                  drop: () => dragged && move(dragged, shown.indexOf(column.column)),
                  by: (steps) => move(column.column, shown.indexOf(column.column) + steps),
                }}
                toggle={() => setOpen(open === column.column ? undefined : column.column)}
                change={change}
              />
              {open === column.column && (
                <Table.Tr>
                  <Table.Td colSpan={5} pl={28}>
                    <ColumnWords set={set} column={column} isEditable={isEditable} change={change} />
                    <ColumnData set={set} column={column} isEditable={isEditable} change={change} />
                  </Table.Td>
                </Table.Tr>
              )}
            </Fragment>
          ))}
        </Table.Tbody>
      </Table>
    </Table.ScrollContainer>
  );
}

/** The list with one of its items at another place. */
function moved(list: string[], item: string, place: number): string[] {
  if (place < 0 || place >= list.length) return list;
  const others = list.filter((one) => one !== item);
  return [...others.slice(0, place), item, ...others.slice(place)];
}

/** All columns in the order of the table, where all are shown in it; else nothing equals it. */
function ownOrder(set: SetDesignInfo): string[] {
  return set.columns.every((column) => column.isShown) ? set.ownColumns : [];
}

interface ColumnRowProps extends ColumnsGridProps {
  column: ColumnDesignInfo;
  isOpen: boolean;
  /** Among those that are shown; -1 = it is not. */
  place: number;
  drag: { start: () => void; drop: () => void; by: (steps: number) => void };
  toggle: () => void;
}

function ColumnRow({ set, column, isEditable, ownTypes, isOpen, place, drag, toggle, change }: ColumnRowProps) {
  const name = column.column;
  const put = (path: string[], value: unknown) => change({ set: set.index, path, value });
  const said = valueAt(set.written, 'columns', name);
  const type = typeof said === 'string' ? said : textAt(said, 'type');
  const isPublishable = column.type !== undefined;
  return (
    <Table.Tr
      data-hidden={!column.isShown || undefined}
      className="column"
      onDragOver={(event) => place >= 0 && event.preventDefault()}
      onDrop={drag.drop}
    >
      <Table.Td>
        <Group gap={4} wrap="nowrap">
          {place >= 0 && isEditable && (
            <ActionIcon
              size="xs"
              variant="subtle"
              color="gray"
              draggable
              aria-label={`Move ${name}; Alt with an arrow key moves it, too`}
              style={{ cursor: 'grab' }}
              onDragStart={drag.start}
              onKeyDown={(event) => {
                if (!event.altKey || !['ArrowUp', 'ArrowDown'].includes(event.key)) return;
                event.preventDefault();
                drag.by(event.key === 'ArrowUp' ? -1 : 1);
              }}
            >
              <IconGripVertical size={14} />
            </ActionIcon>
          )}
          <QuickCheckbox
            aria-label={`Show ${name}`}
            checked={column.isShown}
            disabled={!isEditable || !isPublishable}
            change={(isShown) => put(['hide', name], !isShown)}
          />
        </Group>
      </Table.Td>
      <Table.Td>
        <Group gap={4} wrap="nowrap">
          <ActionIcon
            size="xs"
            variant="subtle"
            color="gray"
            aria-label={`More of ${name}`}
            aria-expanded={isOpen}
            onClick={toggle}
          >
            {isOpen ? <IconChevronDown size={14} /> : <IconChevronRight size={14} />}
          </ActionIcon>
          <div>
            <Group gap={4} wrap="nowrap">
              <bdi>{name}</bdi>
              {set.key.includes(name) && <IconKey size={14} role="img" aria-label="part of the key" />}
            </Group>
            <Text size="xs" c="dimmed" title={column.reason} className="clip" maw={112}>
              {column.declaredType || 'no type'}
              {column.isNullable ? '' : ', not null'}
              {column.group && `, in ${column.group}`}
            </Text>
          </div>
        </Group>
      </Table.Td>
      <Table.Td>
        <CommitInput
          aria-label={`Public name of ${name}`}
          value={column.name === column.ownName ? '' : column.name}
          placeholder={column.ownName}
          disabled={!isEditable || !isPublishable}
          commit={(value) => put(['columns', name, 'name'], value === column.ownName ? undefined : value)}
          miw={84}
        />
      </Table.Td>
      <Table.Td>
        <TypeInput
          label={`Type of ${name}`}
          value={type}
          own={column.ownType}
          ownTypes={ownTypes}
          isEditable={isEditable}
          commit={(value) => put(['columns', name, 'type'], value || undefined)}
        />
      </Table.Td>
      <Table.Td>
        <CommitInput
          aria-label={`Description of ${name}`}
          value={textAt(said, 'description')}
          placeholder={column.comment}
          disabled={!isEditable || !isPublishable}
          commit={(value) => put(['columns', name, 'description'], value || undefined)}
          miw={84}
        />
      </Table.Td>
    </Table.Tr>
  );
}

interface TypeInputProps {
  label: string;
  value: string;
  own?: string;
  ownTypes: string[];
  isEditable: boolean;
  commit: (value: string) => void;
}

function TypeInput({ label, value, own, ownTypes, isEditable, commit }: TypeInputProps) {
  const [typed, setTyped] = useState<string>();
  const settle = (text: string | undefined) => {
    if (text !== undefined && text.trim() !== value) commit(text.trim());
    setTyped(undefined);
  };
  return (
    <Autocomplete
      aria-label={label}
      size="xs"
      data={[...ownTypes, ...typeNames, 'json']}
      value={typed ?? value}
      placeholder={own?.replace(/^Edm\./, '') ?? 'cannot be published'}
      disabled={!isEditable}
      onChange={setTyped}
      onOptionSubmit={settle}
      onBlur={() => settle(typed)}
      miw={84}
    />
  );
}

type ColumnWordsProps = Omit<ColumnsGridProps, 'ownTypes'> & { column: ColumnDesignInfo };

function ColumnWords({ set, column, isEditable, change }: ColumnWordsProps) {
  const name = column.column;
  const said = valueAt(set.written, 'columns', name);
  return (
    <SimpleGrid cols={{ base: 1, sm: 3 }} spacing="xs" verticalSpacing={4} pb="xs">
      {words.map(({ word, label, hint, kind }) => (
        <CommitInput
          key={word}
          label={label}
          placeholder={hint}
          value={kind === 'list' ? listAt(said, word).join(', ') : textAt(said, word)}
          disabled={!isEditable}
          commit={(text) =>
            change({
              set: set.index,
              path: ['columns', name, word],
              value: !text
                ? undefined
                : kind === 'list'
                  ? text.split(',').map((one) => one.trim())
                  : kind === 'number'
                    ? numberOf(text)
                    : text,
            })
          }
        />
      ))}
      <CommitInput
        label="In the complex value"
        placeholder="its name, such as position"
        value={column.group ?? ''}
        disabled={!isEditable}
        commit={(group) => change(...groupChanges(set, column, group))}
      />
      <CommitInput
        label="Media type"
        placeholder="of a stream, such as image/png"
        value={textAt(said, 'media-type')}
        disabled={!isEditable}
        commit={(type) => change({ set: set.index, path: ['columns', name, 'media-type'], value: type || undefined })}
      />
      <QuickCheckbox
        label="A stream, fetched by itself"
        mt={22}
        checked={textAt(said, 'stream') === 'true'}
        disabled={!isEditable}
        change={(isStream) =>
          change({ set: set.index, path: ['columns', name, 'stream'], value: isStream || undefined })
        }
      />
    </SimpleGrid>
  );
}
