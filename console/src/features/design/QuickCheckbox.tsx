import { Checkbox, type CheckboxProps } from '@mantine/core';
import { createContext, useContext, useState } from 'react';

/** Whether a change is on its way to the text. */
export const Changing = createContext(false);

interface QuickCheckboxProps extends Omit<CheckboxProps, 'checked' | 'onChange'> {
  checked: boolean;
  change: (checked: boolean) => void;
}

/** Shows a choice at once, and what has become of it when the change has come back. */
export function QuickCheckbox({ checked, change, ...rest }: QuickCheckboxProps) {
  const isChanging = useContext(Changing);
  const [wanted, setWanted] = useState<boolean>();
  const [wasChanging, setWasChanging] = useState(false);
  if (wasChanging !== isChanging) {
    setWasChanging(isChanging);
    if (!isChanging) setWanted(undefined);
  }
  return (
    <Checkbox
      size="xs"
      {...rest}
      checked={wanted ?? checked}
      onChange={(event) => {
        setWanted(event.currentTarget.checked);
        change(event.currentTarget.checked);
      }}
    />
  );
}
