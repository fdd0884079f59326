import { TextInput, type TextInputProps } from '@mantine/core';
import { useState } from 'react';

interface CommitInputProps extends Omit<TextInputProps, 'value' | 'onChange'> {
  value: string;
  /** Called once what was typed is meant: with Enter, or when the field is left. */
  commit: (value: string) => void;
}

/** A field whose text counts when it is left; Escape takes back what was typed. */
export function CommitInput({ value, commit, ...rest }: CommitInputProps) {
  const [typed, setTyped] = useState<string>();
  const settle = () => {
    if (typed !== undefined && typed.trim() !== value) commit(typed.trim());
    setTyped(undefined);
  };
  return (
    <TextInput
      size="xs"
      {...rest}
      value={typed ?? value}
      onChange={(event) => setTyped(event.currentTarget.value)}
      onBlur={settle}
      onKeyDown={(event) => {
        if (event.key === 'Enter') settle();
        if (event.key === 'Escape') setTyped(undefined);
      }}
    />
  );
}
