import { Table, Text } from '@mantine/core';
import { IconArrowDown, IconArrowUp } from '@tabler/icons-react';
import type { PropertyInfo } from '../../api/client';
import type { DataQuery } from '../../api/query';

const numbers = new Set([
  'Edm.Byte',
  'Edm.SByte',
  'Edm.Int16',
  'Edm.Int32',
  'Edm.Int64',
  'Edm.Decimal',
  'Edm.Single',
  'Edm.Double',
]);

interface DataTableProps {
  properties: PropertyInfo[];
  rows: Record<string, unknown>[];
  label: string;
  order: DataQuery['orderBy'];
  /** Missing = there is nothing to sort. */
  sort?: (order: DataQuery['orderBy']) => void;
  /** Opens a row; undefined = rows are only read. */
  edit?: (row: Record<string, unknown>) => void;
}

/** Rows with headers that sort: first ascending, then descending, then as the service has them. */
export function DataTable({ properties, rows, label, order, sort, edit }: DataTableProps) {
  const turn = (property: string) => {
    if (order?.property !== property) sort?.({ property, descending: false });
    else sort?.(order.descending ? undefined : { property, descending: true });
  };
  return (
    <div className="rows" tabIndex={0} role="region" aria-label={`Rows of ${label}`}>
      <Table verticalSpacing={3} horizontalSpacing="xs" fz="sm" striped stickyHeader>
        <Table.Thead>
          <Table.Tr>
            {edit && <Table.Th>edit</Table.Th>}
            {properties.map((property) => {
              const direction =
                order?.property === property.name ? (order.descending ? 'descending' : 'ascending') : 'none';
              return (
                <Table.Th
                  key={property.name}
                  aria-sort={direction}
                  className={numbers.has(property.type) ? 'number' : undefined}
                >
                  {property.isSortable && sort ? (
                    <button type="button" className="sort" title={property.facets} onClick={() => turn(property.name)}>
                      {property.name}
                      <Unit of={property} />
                      {direction === 'ascending' && <IconArrowUp size={14} aria-hidden />}
                      {direction === 'descending' && <IconArrowDown size={14} aria-hidden />}
                    </button>
                  ) : (
                    <span title={property.facets}>
                      {property.name}
                      <Unit of={property} />
                    </span>
                  )}
                </Table.Th>
              );
            })}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {rows.map((row, index) => (
            <Table.Tr key={index}>
              {edit && (
                <Table.Td>
                  <button type="button" className="sort" onClick={() => edit(row)} aria-label={`Edit row ${index + 1}`}>
                    Edit
                  </button>
                </Table.Td>
              )}
              {properties.map((property) => (
                <Table.Td key={property.name} className={numbers.has(property.type) ? 'number' : undefined}>
                  <Cell value={row[property.name]} type={property.type} />
                </Table.Td>
              ))}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </div>
  );
}

/** What all values of a column are measured in. */
function Unit({ of: { measure } }: { of: PropertyInfo }) {
  if (!measure?.text) return null;
  return (
    <Text span inherit fw={400} c="dimmed">
      {measure.text}
    </Text>
  );
}

/** A value as people read it: the members of a complex one by their names, collections as they are sent. */
function shown(value: unknown): string {
  if (typeof value !== 'object' || value === null) return String(value);
  if (Array.isArray(value)) return JSON.stringify(value);
  return Object.entries(value)
    .map(([name, member]) => `${name} ${shown(member)}`)
    .join(', ');
}

/** A point in time as people read it, in UTC; the exact value is at hand. */
function readable(value: string): string {
  const [date = '', time = ''] = value.split('T');
  return `${date} ${time.replace(/(:00)?(\.\d+)?(Z|[+-]\d{2}:\d{2})$/, '')}`;
}

function Cell({ value, type }: { value: unknown; type: string }) {
  if (value === null || value === undefined)
    return (
      <Text span c="dimmed" fz="xs" fs="italic">
        null
      </Text>
    );
  if (type === 'Edm.DateTimeOffset' && typeof value === 'string')
    return (
      <time dateTime={value} title={value} style={{ whiteSpace: 'nowrap' }}>
        {readable(value)}
      </time>
    );
  const text = shown(value);
  return (
    <div className="clip" title={text.length > 40 ? text : undefined}>
      {text}
    </div>
  );
}
