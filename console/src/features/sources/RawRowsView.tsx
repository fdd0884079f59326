import { ActionIcon, Button, Group, Select, Text, TextInput, UnstyledButton } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { IconArrowDown, IconArrowUp, IconRefresh } from '@tabler/icons-react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import type { ObjectDetails } from '../../api/client';
import { fetchRawRows } from '../../api/sources';
import { Empty, Failed, Pending } from '../../components/States';
import { RowsTable } from './ObjectView';

const pageSize = 25;

/** Rows as they are stored: sorted, filtered and from any position. Looks are noted in the audit log. */
export function RawRowsView({ source, object }: { source: string; object: ObjectDetails }) {
  const columns = object.columns.map((column) => column.name);
  const [sort, setSort] = useState<string>();
  const [skip, setSkip] = useState(0);
  const [column, setColumn] = useState(columns[0] ?? '');
  const [contains, setContains] = useState('');
  const [settled] = useDebouncedValue(contains, 300);
  const question = { rows: pageSize, skip, sort, column, contains: settled };
  const rows = useQuery({
    queryKey: ['raw', source, object.name, question],
    queryFn: () => fetchRawRows(source, object.name, question),
    placeholderData: keepPreviousData,
  });
  const order = (name: string) => {
    setSkip(0);
    setSort(sort === name ? `-${name}` : sort === `-${name}` ? undefined : name);
  };
  return (
    <>
      <Group gap="xs" align="end" mb="xs">
        <Select
          size="xs"
          label="Rows where"
          data={columns}
          value={column}
          searchable
          allowDeselect={false}
          onChange={(value) => setColumn(value ?? '')}
          w={170}
        />
        <TextInput
          size="xs"
          label="contains"
          placeholder="anything"
          value={contains}
          onChange={(event) => {
            setSkip(0);
            setContains(event.currentTarget.value);
          }}
          w={170}
        />
        <TextInput
          size="xs"
          label="From row"
          inputMode="numeric"
          value={String(skip + 1)}
          onChange={(event) => {
            const row = Number.parseInt(event.currentTarget.value, 10);
            setSkip(Number.isNaN(row) ? 0 : Math.max(0, row - 1));
          }}
          w={90}
        />
        <Button size="xs" variant="default" disabled={skip === 0} onClick={() => setSkip(Math.max(0, skip - pageSize))}>
          Back
        </Button>
        <Button size="xs" variant="default" disabled={!rows.data?.hasMore} onClick={() => setSkip(skip + pageSize)}>
          Next
        </Button>
        <ActionIcon
          variant="default"
          size={30}
          aria-label="Read the rows again"
          loading={rows.isFetching}
          onClick={() => void rows.refetch()}
        >
          <IconRefresh size={16} />
        </ActionIcon>
        {rows.data && (
          <Text size="sm" c="dimmed">
            {rows.data.rows.length} rows{rows.data.hasMore ? ', and more' : ''}
          </Text>
        )}
      </Group>
      {rows.isPending && <Pending what="the rows" />}
      {rows.isError && <Failed error={rows.error} retry={rows.refetch} />}
      {rows.data?.rows.length === 0 && <Empty>There are no such rows.</Empty>}
      {rows.data && rows.data.rows.length > 0 && (
        <RowsTable
          label={`Stored rows of ${object.name}`}
          columns={rows.data.columns}
          rows={rows.data.rows as (string | null)[][]}
          head={(name) => (
            <UnstyledButton className="sort" onClick={() => order(name)} aria-label={`Sort by ${name}`}>
              <bdi>{name}</bdi>
              {sort === name && <IconArrowUp size={13} role="img" aria-label="ascending" />}
              {sort === `-${name}` && <IconArrowDown size={13} role="img" aria-label="descending" />}
            </UnstyledButton>
          )}
        />
      )}
    </>
  );
}
