import { ActionIcon, Button, Group, MultiSelect, Stack, Text } from '@mantine/core';
import { IconTrash } from '@tabler/icons-react';
import type { SetDesignInfo } from '../../api/client';
import type { Change } from '../../api/design';
import { countBroken } from '../../api/proofs';
import { useProgress } from '../../api/useProgress';
import { Running } from '../../components/Running';
import { CommitInput } from './CommitInput';
import { ConditionInput } from './ConditionInput';
import { useEditedSet } from './edited';
import { listAt, textAt, valueAt } from './words';

interface RowRulesProps {
  set: SetDesignInfo;
  isEditable: boolean;
  change: (...changes: Change[]) => void;
}

/** What written rows must be, each rule with a try on the rows that are there. */
export function RowRules({ set, isEditable, change }: RowRulesProps) {
  const said = valueAt(set.written, 'valid');
  const rules: unknown[] = Array.isArray(said) ? said : [];
  const add = (rule: unknown) =>
    change(
      rules.length === 0
        ? { set: set.index, path: ['valid'], value: [rule] }
        : { set: set.index, path: ['valid', rules.length], value: rule },
    );
  return (
    <Stack gap="xs" component="section" aria-label={`What rows of ${set.name} must be`}>
      <Text fw={600} size="sm">
        What written rows must be
      </Text>
      {rules.length === 0 && (
        <Text size="sm" c="dimmed">
          Nothing beyond types and the rules of their columns.
        </Text>
      )}
      {rules.map((rule, at) => (
        <RowRule
          key={at}
          set={set}
          rule={rule}
          at={at}
          isLast={rules.length === 1}
          isEditable={isEditable}
          change={change}
        />
      ))}
      {isEditable && (
        <Group gap="xs">
          <Button size="xs" variant="default" onClick={() => add({ where: `${set.columns[0]?.name ?? 'id'} ne null` })}>
            Add a condition
          </Button>
          <Button size="xs" variant="default" onClick={() => add({ unique: [set.columns[0]?.column ?? 'id'] })}>
            Add uniqueness
          </Button>
        </Group>
      )}
    </Stack>
  );
}

interface RowRuleProps extends RowRulesProps {
  rule: unknown;
  at: number;
  isLast: boolean;
}

function RowRule({ set, rule, at, isLast, isEditable, change }: RowRuleProps) {
  const edited = useEditedSet(set.index);
  const where = textAt(rule, 'where');
  const unique = listAt(rule, 'unique');
  const isCondition = valueAt(rule, 'unique') === undefined;
  const put = (word: string, value: unknown) => change({ set: set.index, path: ['valid', at, word], value });
  // What was counted is about the condition as it was then.
  const tried = useProgress(async (tell, signal) => ({
    where,
    ...(await countBroken(edited, where, tell, signal)),
  }));
  return (
    <Group align="end" gap="xs">
      {isCondition ? (
        <ConditionInput
          label={`Condition ${at + 1}`}
          value={where}
          names={set.columns.map((column) => column.name)}
          isEditable={isEditable}
          commit={(value) => put('where', value)}
          width={260}
        />
      ) : (
        <MultiSelect
          size="xs"
          label={`Unique together ${at + 1}`}
          data={set.columns.map((column) => column.column)}
          value={unique}
          disabled={!isEditable}
          onChange={(columns) => put('unique', columns)}
          miw={260}
        />
      )}
      <CommitInput
        label="Message"
        placeholder="when it is broken"
        value={textAt(rule, 'message')}
        disabled={!isEditable}
        commit={(value) => put('message', value || undefined)}
        w={200}
      />
      {isCondition && <Running label="Try on the rows" work={tried} isDisabled={!where} />}
      <ActionIcon
        variant="subtle"
        color="red"
        aria-label={`Remove rule ${at + 1} about rows`}
        disabled={!isEditable}
        onClick={() => change({ set: set.index, path: isLast ? ['valid'] : ['valid', at] })}
      >
        <IconTrash size={15} />
      </ActionIcon>
      {tried.result?.where === where && (
        <Text size="sm" role="status" c={tried.result.broken > 0 ? 'var(--mantine-color-error)' : undefined}>
          {tried.result.broken === 0
            ? `All ${tried.result.rows.toLocaleString()} rows fulfil it.`
            : `${tried.result.broken.toLocaleString()} of ${tried.result.rows.toLocaleString()} rows break it.`}
        </Text>
      )}
    </Group>
  );
}
