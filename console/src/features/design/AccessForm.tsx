import { Alert, Button, Stack } from '@mantine/core';
import type { SetDesignInfo } from '../../api/client';
import type { Change } from '../../api/design';
import { type RuleEdit, RulesForm, written, type WrittenRule } from './RulesForm';
import { valueAt } from './words';

interface AccessFormProps {
  set: SetDesignInfo;
  roles: string[];
  isEditable: boolean;
  change: (...changes: Change[]) => void;
}

/** The rules of a set, or those of its service that hold as long as it has none. */
export function AccessForm({ set, roles, isEditable, change }: AccessFormProps) {
  const isList = Array.isArray(valueAt(set.written, 'rules'));
  const put = (rules: WrittenRule[], edit?: RuleEdit) =>
    change(
      isList && edit
        ? { set: set.index, path: ['rules', ...edit.path], value: edit.value }
        : { set: set.index, path: ['rules'], value: rules },
    );
  return (
    <Stack gap="sm">
      {!set.hasOwnRules && (
        <Alert
          color="cyan"
          title={set.rules.length > 0 ? 'The rules of the service hold here' : 'Nobody may read this yet'}
        >
          <Button size="xs" variant="default" disabled={!isEditable} onClick={() => put(set.rules.map(written))}>
            {set.rules.length > 0 ? 'Give it rules of its own' : 'Change the rules'}
          </Button>
        </Alert>
      )}
      <RulesForm
        label={`Rules of ${set.name}`}
        rules={set.rules}
        roles={roles}
        columns={set.hasOwnRules ? set.columns.filter((column) => column.isShown).map((column) => column.column) : []}
        isEditable={isEditable && (set.hasOwnRules || set.rules.length === 0)}
        change={put}
      />
    </Stack>
  );
}
