import { Checkbox, Group, NavLink, Text, UnstyledButton } from '@mantine/core';
import { IconChevronDown, IconChevronRight } from '@tabler/icons-react';
import { useVirtualizer } from '@tanstack/react-virtual';
import { type RefObject, useEffect, useLayoutEffect, useRef, useState } from 'react';
import { Link } from 'react-router';
import type { ObjectSummary, SourceSummary } from '../../api/client';

interface SourceObjectsProps {
  source: SourceSummary;
  objects: ObjectSummary[];
  sought: string;
  ticked: string[];
  tick: (names: string[]) => void;
  current?: ObjectSummary;
  /** What scrolls around all sources. */
  scroller: RefObject<HTMLDivElement | null>;
}

/** Height of a row, in pixels. */
const rowHeight = 44;

/** A line of the tree: a schema, or something that it holds. */
type Line = { schema: string; count: number } | { object: ObjectSummary };

/** What a source has on offer, as a branch of the tree. Only what is in view stands in the page. */
export function SourceObjects({ source, objects, sought, ticked, tick, current, scroller }: SourceObjectsProps) {
  // Shift ticks a range, from the one that was ticked last.
  const [last, setLast] = useState<string>();
  const [isOpen, setOpen] = useState(true);
  const [folded, setFolded] = useState<string[]>([]);
  const list = useRef<HTMLDivElement>(null);
  const [margin, setMargin] = useState(0);
  const lines = isOpen ? linesOf(objects, folded) : [];
  const rows = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 8,
    scrollMargin: margin,
  });
  // What stands above moves the list at any time, and the same place changes nothing.
  // eslint-disable-next-line react-hooks/exhaustive-deps
  useLayoutEffect(() => {
    const top = list.current?.offsetTop ?? 0;
    if (top !== margin) setMargin(top);
  });
  const at = lines.findIndex((line) => 'object' in line && line.object === current);
  useEffect(() => {
    if (at >= 0) rows.scrollToIndex(at, { align: 'auto' });
    // It is brought into view when another is chosen, and not whenever the list changes.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [current?.name]);
  const turn = (name: string, isRange: boolean) => {
    const names = objects.map((object) => object.name);
    const [from, to] = [names.indexOf(last ?? name), names.indexOf(name)].sort((a, b) => a - b);
    const range = isRange && last ? names.slice(from, (to ?? 0) + 1) : [name];
    setLast(name);
    tick(ticked.includes(name) ? ticked.filter((one) => !range.includes(one)) : [...new Set([...ticked, ...range])]);
  };
  const chosen = new Set(ticked);
  const isWhole = objects.length > 0 && objects.every((object) => chosen.has(object.name));
  const link = (name: string) =>
    `?${new URLSearchParams({ ...(sought && { search: sought }), source: source.name, object: name })}`;
  return (
    <nav aria-label={`Objects of ${source.name}`}>
      <UnstyledButton aria-expanded={isOpen} onClick={() => setOpen(!isOpen)} className="branch">
        {isOpen ? <IconChevronDown size={14} aria-hidden /> : <IconChevronRight size={14} aria-hidden />}
        <Text span fw={650} size="sm">
          {source.title ?? source.name}
        </Text>
      </UnstyledButton>
      {source.description && isOpen && <Text size="xs">{source.description}</Text>}
      <Text size="xs" c="dimmed" mb={4}>
        {source.address}, {objects.length.toLocaleString()} of {source.objects.length.toLocaleString()}
      </Text>
      {objects.length > 0 && isOpen && (
        <Checkbox
          size="xs"
          mb={4}
          label={sought ? `All ${objects.length} found` : `All ${objects.length}`}
          checked={isWhole}
          indeterminate={!isWhole && ticked.length > 0}
          onChange={() => tick(isWhole ? [] : objects.map((object) => object.name))}
        />
      )}
      <div ref={list} style={{ height: rows.getTotalSize(), position: 'relative' }}>
        {rows.getVirtualItems().map((row) => {
          const line = lines[row.index];
          if (!line) return null;
          const style = { top: row.start - margin, height: rowHeight };
          return 'schema' in line ? (
            <SchemaLine
              key={`schema ${line.schema}`}
              line={line}
              style={style}
              isOpen={!folded.includes(line.schema)}
              turn={() =>
                setFolded(
                  folded.includes(line.schema) ? folded.filter((one) => one !== line.schema) : [...folded, line.schema],
                )
              }
            />
          ) : (
            <Group key={line.object.name} gap={6} wrap="nowrap" className="leaf" style={style}>
              <Checkbox
                size="xs"
                aria-label={`Tick ${line.object.name}`}
                checked={chosen.has(line.object.name)}
                onChange={(event) => turn(line.object.name, (event.nativeEvent as MouseEvent).shiftKey)}
              />
              <NavLink
                component={Link}
                to={link(line.object.name)}
                replace
                py={3}
                noWrap
                active={line.object === current}
                label={<bdi>{line.object.name}</bdi>}
                description={describe(line.object)}
              />
            </Group>
          );
        })}
      </div>
      {source.routines.length > 0 && !sought && isOpen && <Routines source={source} />}
    </nav>
  );
}

function describe(object: ObjectSummary): string {
  const columns = `${object.kind}, ${object.columns.length} columns`;
  return object.published.length > 0 ? `${columns}, published` : columns;
}

/** Schemas stand as branches where there are several. */
function linesOf(objects: ObjectSummary[], folded: string[]): Line[] {
  const schemas = [...new Set(objects.map((object) => object.schema ?? ''))];
  if (schemas.length < 2) return objects.map((object) => ({ object }));
  return schemas.flatMap((schema) => {
    const own = objects.filter((object) => (object.schema ?? '') === schema);
    return [{ schema, count: own.length }, ...(folded.includes(schema) ? [] : own.map((object) => ({ object })))];
  });
}

interface SchemaLineProps {
  line: { schema: string; count: number };
  style: { top: number; height: number };
  isOpen: boolean;
  turn: () => void;
}

function SchemaLine({ line, style, isOpen, turn }: SchemaLineProps) {
  return (
    <div className="leaf" style={style}>
      <UnstyledButton aria-expanded={isOpen} onClick={turn} className="branch">
        {isOpen ? <IconChevronDown size={14} aria-hidden /> : <IconChevronRight size={14} aria-hidden />}
        <Text span size="sm">
          {line.schema}
        </Text>
        <Text span size="xs" c="dimmed">
          {line.count.toLocaleString()}
        </Text>
      </UnstyledButton>
    </div>
  );
}

/** Routines that are listed at once. */
const mostRoutines = 50;

function Routines({ source }: { source: SourceSummary }) {
  return (
    <>
      <Text size="xs" c="dimmed" mt="xs">
        Functions and procedures
      </Text>
      {source.routines.slice(0, mostRoutines).map((routine) => (
        <Text key={`${routine.name} ${routine.parameters.join()}`} size="xs" title={routine.comment}>
          {routine.name}({routine.parameters.join(', ')})
        </Text>
      ))}
      {source.routines.length > mostRoutines && (
        <Text size="xs" c="dimmed">
          and {source.routines.length - mostRoutines} more
        </Text>
      )}
    </>
  );
}
