import { Group, Select, Table, Text } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import type { SetDesignInfo } from '../../api/client';
import { type Change, fetchDesign } from '../../api/design';
import { Scroller } from '../../components/Scroller';
import { Failed } from '../../components/States';
import { CommitInput } from '../design/CommitInput';
import { valueAt } from '../design/words';

interface ChosenSetsProps {
  service: string;
  /** The file of the service as it will be written. */
  text: string;
  /** Tables and views that are new in it. */
  added: string[];
  change: (text: string) => void;
}

/** The sets that tables and views become, in one grid: names can be changed before anything is written. */
export function ChosenSets({ service, text, added, change }: ChosenSetsProps) {
  const design = useQuery({
    queryKey: ['draft', 'design', service, text],
    queryFn: () => fetchDesign(service, text),
    placeholderData: (former) => former,
    enabled: !!text,
  });
  const edit = useMutation({
    mutationFn: (changes: Change[]) => fetchDesign(service, text, changes),
    onSuccess: (answer) => change(answer.text),
  });
  const found = design.data?.design;
  const sets = found?.sets.filter((set) => added.includes(set.from)) ?? [];
  const faults = design.data?.findings.filter((finding) => finding.severity === 'error') ?? [];
  if (sets.length === 0) return null;
  const rules = valueAt(found?.written, 'rules');
  return (
    <>
      {rules === undefined && (
        <Group gap="xs">
          <Select
            size="xs"
            label="Who may read them"
            placeholder="nobody yet"
            data={['anyone', 'signed-in', ...(found?.roles ?? [])]}
            value={null}
            disabled={edit.isPending}
            onChange={(who) => who && edit.mutate([{ path: ['rules'], value: { read: who } }])}
            w={200}
          />
        </Group>
      )}
      <Scroller label="Sets that are added">
        <Table verticalSpacing={2} aria-label="Sets that are added">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>From</Table.Th>
              <Table.Th>Public name</Table.Th>
              <Table.Th>Type</Table.Th>
              <Table.Th>Key</Table.Th>
              <Table.Th className="number">Columns</Table.Th>
              <Table.Th className="number">Relations</Table.Th>
              <Table.Th>Operations</Table.Th>
              <Table.Th>Who reads</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {sets.map((set) => (
              <SetRow key={set.index} set={set} isBusy={edit.isPending} change={(changes) => edit.mutate(changes)} />
            ))}
          </Table.Tbody>
        </Table>
      </Scroller>
      {edit.isError && <Failed error={edit.error} />}
      {faults.map((fault) => (
        <Text key={`${fault.line} ${fault.message}`} size="sm" c="var(--mantine-color-error)">
          Line {fault.line}: {fault.message}
        </Text>
      ))}
    </>
  );
}

interface SetRowProps {
  set: SetDesignInfo;
  isBusy: boolean;
  change: (changes: Change[]) => void;
}

function SetRow({ set, isBusy, change }: SetRowProps) {
  const put = (word: string, value: string, own: string) =>
    change([{ set: set.index, path: [word], value: value === own ? undefined : value || undefined }]);
  return (
    <Table.Tr>
      <Table.Td>
        <bdi>{set.from}</bdi>
      </Table.Td>
      <Table.Td>
        <CommitInput
          aria-label={`Public name of ${set.from}`}
          value={set.name === set.ownName ? '' : set.name}
          placeholder={set.ownName}
          disabled={isBusy}
          commit={(value) => put('name', value, set.ownName)}
          miw={110}
        />
      </Table.Td>
      <Table.Td>
        <CommitInput
          aria-label={`Type of ${set.from}`}
          value={set.type === set.ownType ? '' : set.type}
          placeholder={set.ownType}
          disabled={isBusy}
          commit={(value) => put('type', value, set.ownType)}
          miw={110}
        />
      </Table.Td>
      <Table.Td>{set.key.length > 0 ? set.key.join(', ') : 'none'}</Table.Td>
      <Table.Td className="number">
        {set.columns.filter((column) => column.isShown).length} of {set.columns.length}
      </Table.Td>
      <Table.Td className="number">{set.relations.length}</Table.Td>
      <Table.Td>{set.allow.join(', ')}</Table.Td>
      <Table.Td>{set.read}</Table.Td>
    </Table.Tr>
  );
}
