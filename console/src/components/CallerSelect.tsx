import { Select } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { type AccessCell, fetchAccounts, type Viewer } from '../api/client';

/** The caller who is not signed in. */
export const nobody = 'not signed in';

/** The kinds of callers that rules tell apart. */
export function callersOf(cells: AccessCell[]): string[] {
  return [...new Set(cells.map((cell) => cell.caller))];
}

/** Whose eyes a choice borrows. */
export function viewerOf(who: string, attributes: string): Viewer {
  if (who === nobody) return {};
  return who.startsWith('user ') ? { user: who.slice(5) } : { roles: who === 'signed in' ? '' : who, attributes };
}

/** Chooses a role, or a user by name, or nobody. */
export function CallerSelect(props: { callers: string[]; who: string; onChange: (who: string) => void }) {
  const accounts = useQuery({ queryKey: ['accounts'], queryFn: fetchAccounts });
  const users = accounts.data?.users.map((user) => `user ${user.name}`) ?? [];
  return (
    <Select
      label="Caller"
      data={[
        { group: 'Roles', items: props.callers },
        { group: 'Users', items: users },
      ]}
      value={props.who}
      onChange={(value) => props.onChange(value ?? nobody)}
      allowDeselect={false}
      searchable
      size="xs"
      w={190}
    />
  );
}
