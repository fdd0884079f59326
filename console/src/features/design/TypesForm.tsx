import { ActionIcon, Button, Group, Stack, Table, Text, TextInput } from '@mantine/core';
import { IconTrash } from '@tabler/icons-react';
import { useState } from 'react';
import type { ServiceDesignInfo } from '../../api/client';
import type { Change } from '../../api/design';
import { CommitInput } from './CommitInput';
import { listAt, textAt, valueAt } from './words';

interface TypesFormProps {
  design: ServiceDesignInfo;
  isEditable: boolean;
  change: (...changes: Change[]) => void;
}

/** Types with names: of primitive types with their facets, and enumerations. Complex types are changed in the text. */
export function TypesForm({ design, isEditable, change }: TypesFormProps) {
  const said = valueAt(design.written, 'types');
  const names = typesOf(design);
  const [name, setName] = useState('');
  const [base, setBase] = useState('');
  const isTaken = names.includes(name);
  return (
    <Stack gap={4} component="section" aria-label="Named types">
      <Text fw={600} size="sm">
        Named types
      </Text>
      {names.length > 0 && (
        <Table verticalSpacing={2} aria-label="Named types">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>Name</Table.Th>
              <Table.Th>Is</Table.Th>
              <Table.Th>Description</Table.Th>
              <Table.Th aria-label="Remove" />
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {names.map((one) => (
              <TypeRow
                key={one}
                name={one}
                said={valueAt(said, one)}
                isLast={names.length === 1}
                isEditable={isEditable}
                change={change}
              />
            ))}
          </Table.Tbody>
        </Table>
      )}
      {isEditable && (
        <form
          aria-label="New type"
          onSubmit={(event) => {
            event.preventDefault();
            change({ path: ['types', name], value: base });
            setName('');
            setBase('');
          }}
        >
          <Group align="end" gap="xs">
            <TextInput
              size="xs"
              label="Name of a type"
              value={name}
              onChange={(event) => setName(event.currentTarget.value.trim())}
              error={isTaken ? 'It is there already.' : undefined}
              w={160}
            />
            <TextInput
              size="xs"
              label="Primitive type"
              placeholder="string(12), decimal(9,2)"
              value={base}
              onChange={(event) => setBase(event.currentTarget.value.trim())}
              w={180}
            />
            <Button size="xs" type="submit" variant="default" disabled={!name || !base || isTaken}>
              Add
            </Button>
          </Group>
        </form>
      )}
    </Stack>
  );
}

/** The names of a service's types. */
export function typesOf(design: ServiceDesignInfo): string[] {
  const said = valueAt(design.written, 'types');
  return typeof said === 'object' && said !== null ? Object.keys(said) : [];
}

interface TypeRowProps extends Omit<TypesFormProps, 'design'> {
  name: string;
  said: unknown;
  isLast: boolean;
}

function TypeRow({ name, said, isLast, isEditable, change }: TypeRowProps) {
  const base = typeof said === 'string' ? said : textAt(said, 'type');
  return (
    <Table.Tr>
      <Table.Td>{name}</Table.Td>
      <Table.Td>
        {base ? (
          <CommitInput
            aria-label={`Primitive type of ${name}`}
            value={base}
            disabled={!isEditable}
            commit={(value) =>
              value && change({ path: typeof said === 'string' ? ['types', name] : ['types', name, 'type'], value })
            }
            w={160}
          />
        ) : (
          <Text size="sm">{describe(said)}</Text>
        )}
      </Table.Td>
      <Table.Td>
        <CommitInput
          aria-label={`Description of ${name}`}
          value={textAt(said, 'description')}
          disabled={!isEditable}
          commit={(value) =>
            change(
              typeof said === 'string'
                ? { path: ['types', name], value: { type: said, description: value } }
                : { path: ['types', name, 'description'], value: value || undefined },
            )
          }
        />
      </Table.Td>
      <Table.Td>
        <ActionIcon
          size="sm"
          variant="subtle"
          color="red"
          aria-label={`Remove the type ${name}`}
          disabled={!isEditable}
          onClick={() => change({ path: isLast ? ['types'] : ['types', name] })}
        >
          <IconTrash size={15} />
        </ActionIcon>
      </Table.Td>
    </Table.Tr>
  );
}

function describe(said: unknown): string {
  const members = valueAt(said, 'members');
  if (members !== undefined) {
    const names = Array.isArray(members) ? listAt(said, 'members') : Object.keys(members as object);
    return `one of ${names.slice(0, 6).join(', ')}${names.length > 6 ? ` and ${names.length - 6} more` : ''}`;
  }
  return `properties ${Object.keys((valueAt(said, 'properties') ?? {}) as object).join(', ')}`;
}
