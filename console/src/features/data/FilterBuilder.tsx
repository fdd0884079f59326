import { Button, Group, Select, TextInput } from '@mantine/core';
import { useState } from 'react';
import type { PropertyInfo } from '../../api/client';
import { condition, exampleOf, filterable, operatorsFor } from '../../api/query';

/** Makes one condition out of a property, a test and a value. */
export function FilterBuilder({ properties, add }: { properties: PropertyInfo[]; add: (condition: string) => void }) {
  const [name, setName] = useState<string | null>(null);
  const [word, setWord] = useState<string | null>(null);
  const [value, setValue] = useState('');
  const usable = filterable(properties);
  const property = usable.find((candidate) => candidate.name === name);
  const operators = property ? operatorsFor(property) : [];
  const operator = operators.find((candidate) => candidate.word === word) ?? operators[0];
  const made = property && operator ? condition(property, operator, value) : undefined;
  const isWrong = property !== undefined && operator?.takesValue === true && value !== '' && made === undefined;
  return (
    <Group align="flex-end" gap="xs" role="group" aria-label="Build a condition">
      <Select
        label="Property"
        comboboxProps={{ withinPortal: false }}
        size="xs"
        w={150}
        searchable
        data={usable.map((p) => p.name)}
        value={name}
        onChange={setName}
      />
      <Select
        label="Test"
        comboboxProps={{ withinPortal: false }}
        size="xs"
        w={130}
        disabled={!property}
        data={operators.map((o) => ({ value: o.word, label: o.label }))}
        value={operator?.word ?? null}
        onChange={setWord}
        allowDeselect={false}
      />
      <TextInput
        label="Value"
        size="xs"
        w={190}
        disabled={!operator?.takesValue}
        placeholder={property ? exampleOf(property.type, property.enumMembers) : ''}
        value={value}
        onChange={(event) => setValue(event.currentTarget.value)}
        error={isWrong ? `not a ${property.type}` : undefined}
      />
      <Button size="xs" variant="light" disabled={!made} onClick={() => made && add(made)}>
        Add condition
      </Button>
    </Group>
  );
}
