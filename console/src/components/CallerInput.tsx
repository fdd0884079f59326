import { Autocomplete } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { fetchAccounts } from '../api/client';

interface CallerInputProps {
  /** That rules name; those of accounts are known anyway. */
  roles?: string[];
  /** A user, or roles joined by commas; '' = anonymous. */
  caller: string;
  setCaller: (caller: string) => void;
}

/** As whom something is asked: a user by name, or roles. */
export function CallerInput({ roles = [], caller, setCaller }: CallerInputProps) {
  const accounts = useQuery({ queryKey: ['accounts'], queryFn: fetchAccounts });
  const users = accounts.data?.users ?? [];
  const known = [...new Set([...roles, ...users.flatMap((user) => user.roles)])].sort();
  return (
    <Autocomplete
      size="xs"
      label="Caller"
      placeholder="anonymous"
      data={[
        { group: 'Roles', items: known },
        { group: 'Users', items: users.map((user) => user.name).filter((name) => !known.includes(name)) },
      ]}
      value={caller}
      onChange={setCaller}
      maxDropdownHeight={260}
      w={200}
    />
  );
}
