import { ActionIcon, Button, Group, MultiSelect, Stack, Table, TagsInput, Text } from '@mantine/core';
import { IconTrash } from '@tabler/icons-react';
import { useQuery } from '@tanstack/react-query';
import { fetchAccounts, type RuleDesignInfo } from '../../api/client';
import { Empty } from '../../components/States';
import { ConditionInput } from './ConditionInput';
import { QuickCheckbox } from './QuickCheckbox';

interface RulesFormProps {
  rules: RuleDesignInfo[];
  roles: string[];
  /** Columns that rules can hide; empty = the rules hold for sets of different columns. */
  columns: string[];
  isEditable: boolean;
  label: string;
  /** The rules as the file will have them, and the one value that makes the difference, for a file that has them as a list. */
  change: (rules: WrittenRule[], edit: RuleEdit) => void;
}

/** A change below the list of rules; a missing value removes. */
export interface RuleEdit {
  path: (string | number)[];
  value?: unknown;
}

/** A rule as a file writes it. */
export interface WrittenRule {
  who: string[];
  may?: string[];
  deny?: string[];
  rows?: string;
  hide?: string[];
  mask?: string[];
  'with-check'?: string;
  'largest-page'?: number;
  'largest-cost'?: number;
}

const operations = ['read', 'create', 'update', 'delete'];
const alone = ['anyone', 'signed-in', 'nobody'];

export function written(rule: RuleDesignInfo): WrittenRule {
  return {
    who: rule.who,
    ...(rule.denies ? { deny: rule.may } : { may: rule.may }),
    ...(rule.rows ? { rows: rule.rows } : {}),
    ...(rule.hide.length > 0 ? { hide: rule.hide } : {}),
    ...(rule.mask.length > 0 ? { mask: rule.mask } : {}),
    ...(rule.withCheck ? { 'with-check': rule.withCheck } : {}),
    ...(rule.largestPage ? { 'largest-page': rule.largestPage } : {}),
    ...(rule.largestCost ? { 'largest-cost': rule.largestCost } : {}),
  };
}

/** Who may do what, one rule in a row; a caller may what any of them allows. */
export function RulesForm({ rules, roles, columns, isEditable, label, change }: RulesFormProps) {
  // One word of one rule, so that all others stay as they are written.
  const put = (at: number, word: 'who' | 'may' | 'rows' | 'hide' | 'mask', value: string | string[] | undefined) =>
    change(
      rules.map((rule, index) => written(index === at ? { ...rule, [word]: value } : rule)),
      { path: [at, word === 'may' && rules[at]?.denies ? 'deny' : word], value },
    );
  const accounts = useQuery({ queryKey: ['accounts'], queryFn: fetchAccounts, enabled: columns.length > 0 });
  const attributes = accounts.data?.users.flatMap((user) => Object.keys(user.attributes ?? {})) ?? [];
  const names = [...columns, ...new Set(['user', ...attributes].map((name) => `@${name}`))];
  const fresh: WrittenRule = { who: ['signed-in'], may: ['read'] };
  return (
    <Stack gap="xs">
      {rules.length === 0 ? (
        <Empty>Nobody may do anything here yet. Add a rule.</Empty>
      ) : (
        <Table.ScrollContainer minWidth={columns.length > 0 ? 780 : 420}>
          <Table verticalSpacing={4} horizontalSpacing={6} aria-label={label}>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Who</Table.Th>
                {operations.map((operation) => (
                  <Table.Th key={operation} className="operation">
                    {operation}
                  </Table.Th>
                ))}
                {columns.length > 0 && (
                  <>
                    <Table.Th>Rows</Table.Th>
                    <Table.Th>Hidden columns</Table.Th>
                    <Table.Th>Masked columns</Table.Th>
                  </>
                )}
                <Table.Th aria-label="Remove" />
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {rules.map((rule, at) => (
                <Table.Tr key={at}>
                  <Table.Td>
                    <TagsInput
                      size="xs"
                      aria-label={`Who, in rule ${at + 1}`}
                      data={[...alone, ...roles]}
                      value={rule.who}
                      disabled={!isEditable}
                      onChange={(who) => put(at, 'who', aloneOrRoles(who))}
                      miw={120}
                      styles={{ inputField: { minWidth: 30 } }}
                    />
                    {rule.denies && (
                      <Text size="xs" c="red">
                        may never
                      </Text>
                    )}
                  </Table.Td>
                  {operations.map((operation) => (
                    <Table.Td key={operation} className="operation">
                      <QuickCheckbox
                        aria-label={`${operation}, in rule ${at + 1}`}
                        checked={rule.may.includes(operation)}
                        disabled={!isEditable}
                        change={(isAllowed) =>
                          put(
                            at,
                            'may',
                            isAllowed ? [...rule.may, operation] : rule.may.filter((one) => one !== operation),
                          )
                        }
                      />
                    </Table.Td>
                  ))}
                  {columns.length > 0 && (
                    <>
                      <Table.Td>
                        <ConditionInput
                          label={`Rows, in rule ${at + 1}`}
                          hidesLabel
                          placeholder="all rows"
                          value={rule.rows ?? ''}
                          names={names}
                          isEditable={isEditable}
                          commit={(rows) => put(at, 'rows', rows || undefined)}
                        />
                      </Table.Td>
                      <Table.Td>
                        <MultiSelect
                          size="xs"
                          aria-label={`Hidden columns, in rule ${at + 1}`}
                          data={columns}
                          value={rule.hide}
                          searchable
                          disabled={!isEditable || rule.denies}
                          onChange={(hide) => put(at, 'hide', hide)}
                          miw={120}
                        />
                      </Table.Td>
                      <Table.Td>
                        <MultiSelect
                          size="xs"
                          aria-label={`Masked columns, in rule ${at + 1}`}
                          data={columns}
                          value={rule.mask}
                          searchable
                          disabled={!isEditable || rule.denies}
                          onChange={(mask) => put(at, 'mask', mask)}
                          miw={120}
                        />
                      </Table.Td>
                    </>
                  )}
                  <Table.Td>
                    <ActionIcon
                      size="sm"
                      variant="subtle"
                      color="red"
                      aria-label={`Remove rule ${at + 1}`}
                      disabled={!isEditable}
                      onClick={() => change(rules.filter((_, index) => index !== at).map(written), { path: [at] })}
                    >
                      <IconTrash size={15} />
                    </ActionIcon>
                  </Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </Table.ScrollContainer>
      )}
      {isEditable && (
        <Group>
          <Button
            size="xs"
            variant="default"
            onClick={() => change([...rules.map(written), fresh], { path: [rules.length], value: fresh })}
          >
            Add a rule
          </Button>
        </Group>
      )}
    </Stack>
  );
}

/** Words such as anyone stand alone: the one that was chosen last wins. */
function aloneOrRoles(who: string[]): string[] {
  const last = who[who.length - 1];
  if (last === undefined) return ['nobody'];
  return alone.includes(last) ? [last] : who.filter((one) => !alone.includes(one));
}
