import { describe, expect, it } from 'vitest';
import { pathTo, schemasAt } from './completion';

const text = `title: Rivers
sets:
  - from: river
    columns:
      # the name
      name:
        type: String

    page: 5
rules:
  read: anyone`.split('\n');

describe('pathTo', () => {
  it.each([
    [0, []],
    [2, ['sets']],
    [3, ['sets']],
    [5, ['sets', 'columns']],
    [6, ['sets', 'columns', 'name']],
    [8, ['sets']],
    [10, ['rules']],
  ])('line %i', (line, path) => {
    expect(pathTo(text, line)).toEqual(path);
  });
});

describe('schemasAt', () => {
  const schema = {
    properties: { sets: { items: { anyOf: [{ type: 'string' }, { $ref: '#/$defs/set' }] } } },
    $defs: {
      set: { properties: { columns: { additionalProperties: { properties: { type: { enum: ['String'] } } } } } },
    },
  };
  it('goes through lists, references and names', () => {
    expect(schemasAt(schema, ['sets', 'columns', 'name', 'type']).flatMap((one) => one.enum ?? [])).toEqual(['String']);
  });
  it('finds nothing where nothing is', () => {
    expect(schemasAt(schema, ['sets', 'nothing'])).toEqual([]);
  });
});
