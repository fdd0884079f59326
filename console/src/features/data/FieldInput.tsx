import { Loader, Select, Text, Textarea, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { type Entity, fetchRows, fetchValue, odataOf, type ServiceDetails, type SetInfo } from '../../api/client';
import { choicesUrl, chosenUrl, clockOf, type Field, isNumber, labelOf, unitUrl } from '../../api/entity';

interface InputProps {
  service: ServiceDetails;
  field: Field;
  isNew: boolean;
  /** The entity's address; a new one has none. */
  url?: string;
  /** What is in all fields. */
  texts: Record<string, string>;
  change: (text: string) => void;
  fault?: string;
  isDisabled: boolean;
}

/** The editor that fits a value: a choice of related rows, of listed values, a date, a long text, a number with its unit. */
export function FieldInput({ service, field, isNew, url, texts, change, fault, isDisabled }: InputProps) {
  const { property } = field;
  const text = texts[field.path] ?? '';
  const unit = useUnit(field, url, texts);
  const target = field.relation && service.sets.find((s) => s.name === field.relation?.target && s.kind === 'set');
  const common = {
    label: field.path,
    description: property.description,
    error: fault,
    disabled: isDisabled,
    withAsterisk: property.isRequired,
    size: 'sm' as const,
  };
  if (target && !field.relation?.isRemote)
    return <RelationInput {...{ service, field, text, change, target, common }} />;
  const values =
    property.enumMembers ?? property.values ?? (property.type === 'Edm.Boolean' ? ['true', 'false'] : undefined);
  const hint = hintOf(field);
  if (values)
    return (
      <Select
        {...common}
        data={values}
        value={text === '' ? null : text}
        onChange={(value) => change(value ?? '')}
        clearable={property.nullable || isNew}
        placeholder={hint}
      />
    );
  const isLong = property.type === 'Edm.String' && (property.rules?.maxLength ?? property.maxLength ?? 1_000) > 200;
  if (isLong)
    return (
      <Textarea
        {...common}
        value={text}
        onChange={(event) => change(event.currentTarget.value)}
        autosize
        minRows={3}
        maxRows={8}
        placeholder={hint}
      />
    );
  const clock = clockOf(property.type, text);
  if (clock)
    return (
      <TextInput
        {...common}
        type={clock.type}
        description={[property.description, clock.note].filter(Boolean).join(' ') || undefined}
        step={1}
        value={clock.shown}
        onChange={(event) => change(clock.read(event.currentTarget.value))}
      />
    );
  return (
    <TextInput
      {...common}
      type={property.type === 'Edm.Date' ? 'date' : 'text'}
      inputMode={isNumber(property) ? 'decimal' : undefined}
      value={text}
      onChange={(event) => change(event.currentTarget.value)}
      placeholder={hint}
      rightSection={unit && <Text size="xs">{unit}</Text>}
      rightSectionWidth={unit ? `${unit.length + 2}ch` : undefined}
      spellCheck={false}
    />
  );
}

/** What a number is measured in; where that differs it is asked for, and a new entity has none yet. */
function useUnit(field: Field, url: string | undefined, texts: Record<string, string>): string | undefined {
  const { measure } = field.property;
  const asked = unitUrl(url, field);
  const told = useQuery({
    queryKey: ['unit', asked],
    queryFn: () => fetchValue(asked ?? ''),
    enabled: asked !== undefined,
    gcTime: 0,
    retry: false,
  });
  return (measure?.text ?? (measure?.path && texts[measure.path]) ?? told.data ?? '') || undefined;
}

function hintOf({ property }: Field): string | undefined {
  if (property.made ?? property.defaultValue) return `${property.made ?? property.defaultValue} if left empty`;
  const examples: Record<string, string> = {
    'Edm.DateTimeOffset': '2024-05-01T14:30:00Z',
    'Edm.Duration': 'PT15M',
    'Edm.TimeOfDay': '14:30',
  };
  return examples[property.type];
}

interface RelationProps {
  service: ServiceDetails;
  field: Field;
  text: string;
  change: (text: string) => void;
  target: SetInfo;
  common: object;
}

/** A choice among related entities, by what people know them by. */
function RelationInput({ service, field, text, change, target, common }: RelationProps) {
  const [search, setSearch] = useState('');
  const [asked] = useDebouncedValue(search, 250);
  const value = field.relation?.joins[0]?.target ?? '';
  const label = labelOf(target);
  const root = odataOf(service);
  const choices = useQuery({
    queryKey: ['choices', root, target.name, value, asked],
    queryFn: () => fetchRows(choicesUrl(root, target, value, asked)),
    placeholderData: (known) => known,
    retry: false,
  });
  const chosen = useQuery({
    queryKey: ['chosen', root, target.name, value, text],
    queryFn: () => fetchRows(chosenUrl(root, target, value, text)),
    enabled: text !== '' && target.properties.some((p) => p.name === value && p.isFilterable),
    retry: false,
  });
  // Whoever may not see the others can still name one.
  if (choices.isError)
    return <TextInput {...common} value={text} onChange={(event) => change(event.currentTarget.value)} />;
  const rows = new Map([...(chosen.data ?? []), ...(choices.data ?? [])].map((row) => [String(row[value]), row]));
  if (text !== '' && !rows.has(text)) rows.set(text, { [value]: text, [label]: text });
  const shown = (row: Entity) =>
    label === value ? String(row[value]) : `${String(row[label])} (${String(row[value]).slice(0, 8)})`;
  const labels = [...rows.values()].map(shown);
  return (
    <Select
      {...common}
      searchable
      data={[...rows].map(([id, row]) => ({ value: id, label: shown(row) }))}
      value={text === '' ? null : text}
      onChange={(id) => change(id ?? '')}
      onSearchChange={(typed) => setSearch(labels.includes(typed) ? '' : typed)}
      filter={({ options }) => options}
      clearable={field.property.nullable}
      rightSection={choices.isFetching ? <Loader size={14} /> : undefined}
      nothingFoundMessage={`None of ${target.name}`}
      placeholder={`One of ${target.name}, by ${label}`}
    />
  );
}
