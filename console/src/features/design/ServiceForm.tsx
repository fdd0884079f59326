import { SimpleGrid, Stack, TagsInput, Text } from '@mantine/core';
import type { RuleDesignInfo, ServiceDesignInfo } from '../../api/client';
import type { Change } from '../../api/design';
import { CommitInput } from './CommitInput';
import { RulesForm } from './RulesForm';
import { TypesForm } from './TypesForm';
import { listAt, numberOf, textAt, valueAt } from './words';

interface ServiceFormProps {
  design: ServiceDesignInfo;
  isEditable: boolean;
  change: (...changes: Change[]) => void;
}

/** What a service says of itself, and the rules of its sets that have none of their own. */
export function ServiceForm({ design, isEditable, change }: ServiceFormProps) {
  const text = (path: string[], label: string, placeholder = '') => (
    <CommitInput
      label={label}
      placeholder={placeholder}
      value={textAt(design.written, ...path)}
      disabled={!isEditable}
      commit={(value) => change({ path, value: (path[0] === 'about' ? value : numberOf(value)) || undefined })}
    />
  );
  return (
    <Stack gap="sm" maw={760}>
      <SimpleGrid cols={{ base: 1, sm: 2 }} spacing="sm" verticalSpacing="xs">
        {text(['title'], 'Title')}
        {text(['namespace'], 'Namespace')}
        {text(['about', 'owner'], 'Owner')}
        {text(['about', 'contact'], 'Contact')}
        {text(['about', 'version'], 'Version')}
        {text(['about', 'licence'], 'Licence', 'CC-BY-4.0')}
        {text(['page'], 'Rows of a page', '100')}
        {text(['largest-page'], 'Most rows of a page')}
      </SimpleGrid>
      {text(['about', 'description'], 'Description')}
      <TagsInput
        size="xs"
        label="Page for consumers is open to"
        description={`At /handover/${design.service}; nobody when it is empty`}
        data={['anyone', 'signed-in', ...design.roles]}
        value={listAt(design.written, 'handover', 'who')}
        disabled={!isEditable}
        onChange={(who) =>
          change(
            who.length === 0
              ? { path: ['handover'] }
              : { path: ['handover'], value: { who: who.length === 1 ? who[0] : who } },
          )
        }
      />
      <TypesForm design={design} isEditable={isEditable} change={change} />
      <Text fw={600} size="sm">
        Rules of sets that say none themselves
      </Text>
      <RulesForm
        label="Rules of the service"
        rules={rulesOf(design)}
        roles={design.roles}
        columns={[]}
        isEditable={isEditable}
        change={(rules, edit) =>
          change(
            Array.isArray(valueAt(design.written, 'rules'))
              ? { path: ['rules', ...edit.path], value: edit.value }
              : { path: ['rules'], value: rules },
          )
        }
      />
    </Stack>
  );
}

const operations = ['read', 'create', 'update', 'delete', 'call'];

/** The service's own rules, in the short form of one operation after another or as a list. */
function rulesOf(design: ServiceDesignInfo): RuleDesignInfo[] {
  const said = valueAt(design.written, 'rules');
  const plain = { denies: false, hide: [], mask: [] };
  if (Array.isArray(said))
    return said.map((rule) => ({
      ...plain,
      who: listAt(rule, 'who'),
      may: listAt(rule, 'may').concat(listAt(rule, 'deny')),
      denies: valueAt(rule, 'deny') !== undefined,
    }));
  return operations
    .filter((operation) => valueAt(said, operation) !== undefined)
    .map((operation) => ({ ...plain, who: listAt(said, operation), may: [operation] }));
}
