import { Autocomplete, Text } from '@mantine/core';
import { useState } from 'react';

interface ConditionInputProps {
  label: string;
  hidesLabel?: boolean;
  value: string;
  placeholder?: string;
  /** Names that can stand in it. */
  names: string[];
  isEditable: boolean;
  commit: (value: string) => void;
  width?: number;
}

const words = ['and', 'or', 'not', 'eq', 'ne', 'gt', 'ge', 'lt', 'le', 'in', 'null', 'true', 'false'];
const functions = ['contains(', 'startswith(', 'endswith(', 'length(', 'year(', 'month(', 'date(', 'now()', 'tolower('];

/** A condition in the filter language; the word at its end is completed. */
export function ConditionInput(props: ConditionInputProps) {
  const { label, hidesLabel, value, placeholder, names, isEditable, commit, width = 190 } = props;
  const [typed, setTyped] = useState<string>();
  const settle = (text: string | undefined) => {
    if (text !== undefined && text.trim() !== value) commit(text.trim());
    setTyped(undefined);
  };
  const text = typed ?? value;
  return (
    <Autocomplete
      size="xs"
      label={hidesLabel ? undefined : label}
      aria-label={hidesLabel ? label : undefined}
      placeholder={placeholder}
      value={text}
      disabled={!isEditable}
      data={typed === undefined ? [] : completionsOf(text, names)}
      filter={({ options }) => options}
      renderOption={({ option }) => <Text size="xs">{lastWord(option.value)}</Text>}
      onChange={setTyped}
      onBlur={() => settle(typed)}
      onKeyDown={(event) => {
        if (event.key === 'Escape') setTyped(undefined);
        if (event.key === 'Enter' && !event.currentTarget.getAttribute('aria-activedescendant')) settle(typed);
      }}
      spellCheck={false}
      miw={width}
    />
  );
}

function lastWord(text: string): string {
  return /[@\w./]*\(?\)?\s?$/.exec(text)?.[0].trim() ?? '';
}

/** Texts that the one that is typed could become. */
export function completionsOf(text: string, names: string[]): string[] {
  const begun = /[@\w./]*$/.exec(text)?.[0] ?? '';
  // Within quotes a text is written, and nothing is known of it.
  if (!begun || (text.match(/'/g)?.length ?? 0) % 2 === 1) return [];
  const before = text.slice(0, text.length - begun.length);
  return [...names, ...words, ...functions]
    .filter((word) => word !== begun && word.toLowerCase().startsWith(begun.toLowerCase()))
    .slice(0, 12)
    .map((word) => before + word);
}
