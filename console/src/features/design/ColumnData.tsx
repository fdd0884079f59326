import { Button, Code, Group, Stack, Text, TextInput } from '@mantine/core';
import { useState } from 'react';
import type { ColumnDesignInfo, ColumnLookInfo, ConversionOfferInfo, SetDesignInfo } from '../../api/client';
import type { Change } from '../../api/design';
import { lookAtColumn } from '../../api/proofs';
import { useProgress } from '../../api/useProgress';
import { Running } from '../../components/Running';
import { useEditedSet } from './edited';

interface ColumnDataProps {
  set: SetDesignInfo;
  column: ColumnDesignInfo;
  isEditable: boolean;
  change: (...changes: Change[]) => void;
}

/** What the rows say of a column: other types that they fit, an enumeration of their values, and those that break its rules. */
export function ColumnData({ set, column, isEditable, change }: ColumnDataProps) {
  const edited = useEditedSet(set.index);
  const look = useProgress((tell, signal) => lookAtColumn(edited, column.column, tell, signal));
  const found = look.result;
  const put = (word: string, value: unknown): Change => ({
    set: set.index,
    path: ['columns', column.column, word],
    value,
  });
  return (
    <Stack gap={6} pb="xs">
      <Group>
        <Running label="Look at its values" work={look} />
      </Group>
      {found && (
        <section aria-label={`Values of ${column.column}`}>
          <Text size="sm">
            {found.rows.toLocaleString()} rows, {found.nulls.toLocaleString()} of them null
            {found.values.length > 0 && `, ${found.values.length} different values`}.
          </Text>
          <Breaks found={found} />
          {found.offers.map((offer) => (
            <Offer
              key={JSON.stringify(offer.words)}
              offer={offer}
              isEditable={isEditable}
              take={() => change(...Object.entries(offer.words).map(([word, value]) => put(word, value)))}
            />
          ))}
          {found.offers.length === 0 && (
            <Text size="sm" c="dimmed">
              No other type fits these values.
            </Text>
          )}
          {found.values.length > 0 && (
            <Enumeration
              found={found}
              column={column}
              isEditable={isEditable}
              make={(name) =>
                change({ path: ['types', name], value: { members: membersOf(found) } }, put('type', name))
              }
            />
          )}
        </section>
      )}
    </Stack>
  );
}

function Breaks({ found }: { found: ColumnLookInfo }) {
  if (found.breaks === 0) return null;
  return (
    <>
      <Text size="sm" c="var(--mantine-color-error)">
        {found.breaks.toLocaleString()} {found.breaks === 1 ? 'row breaks' : 'rows break'} the rules of this column:
      </Text>
      <ul className="effects">
        {found.breakExamples.map((example) => (
          <li key={example}>
            <Text size="sm">
              <bdi>{example}</bdi>
            </Text>
          </li>
        ))}
      </ul>
    </>
  );
}

interface OfferProps {
  offer: ConversionOfferInfo;
  isEditable: boolean;
  take: () => void;
}

function Offer({ offer, isEditable, take }: OfferProps) {
  const { type, ...more } = offer.words;
  const words = Object.entries(more).map(([word, value]) => `${word} ${value}`);
  const label = [type, ...words].join(', ');
  return (
    <Group gap="xs" mt={4}>
      <Button size="compact-xs" variant="default" aria-label={`Take ${label}`} disabled={!isEditable} onClick={take}>
        Take
      </Button>
      <Code>{label}</Code>
      <Text size="sm" c={offer.misfits > 0 ? 'var(--mantine-color-error)' : 'dimmed'}>
        {offer.misfits === 0
          ? 'all rows fit'
          : `${offer.misfits.toLocaleString()} ${offer.misfits === 1 ? 'row does' : 'rows do'} not fit, such as `}
        {offer.misfits > 0 && <bdi>{offer.example}</bdi>}
      </Text>
    </Group>
  );
}

/** Members that are called like what is stored are a list. */
function membersOf(found: ColumnLookInfo): unknown {
  const members = Object.entries(found.members);
  return members.every(([name, stored]) => name === stored) ? members.map(([name]) => name) : found.members;
}

interface EnumerationProps {
  found: ColumnLookInfo;
  column: ColumnDesignInfo;
  isEditable: boolean;
  make: (name: string) => void;
}

function Enumeration({ found, column, isEditable, make }: EnumerationProps) {
  const [name, setName] = useState(nameOf(column.column));
  return (
    <>
      <Text size="sm" mt={6} className="clip" maw="60rem">
        {found.values.map((value) => `${value.value} (${value.rows.toLocaleString()})`).join(', ')}
      </Text>
      {found.values.length > 1 && Object.keys(found.members).length === found.values.length && (
        <Group gap="xs" align="end" mt={4}>
          <TextInput
            size="xs"
            label="Enumeration"
            value={name}
            onChange={(event) => setName(event.currentTarget.value.trim())}
            w={180}
          />
          <Button size="xs" variant="default" disabled={!isEditable || !name} onClick={() => make(name)}>
            Make one of these {found.values.length} values
          </Button>
        </Group>
      )}
    </>
  );
}

/** A type's name from that of a column. */
function nameOf(column: string): string {
  return column
    .split(/[^A-Za-z0-9]+/)
    .filter(Boolean)
    .map((word) => word.charAt(0).toUpperCase() + word.slice(1))
    .join('');
}
