import { describe, expect, it } from 'vitest';
import type { PropertyInfo } from './client';
import {
  and,
  callPath,
  condition,
  exampleFilter,
  filterable,
  literal,
  operatorsFor,
  pageUrl,
  conditionsOf,
  joined,
} from './query';

const property = (type: string, nullable = false): PropertyInfo => ({
  name: 'p',
  type,
  facets: type,
  nullable,
  column: 'p',
  isKey: false,
  isFilterable: true,
  isSortable: true,
  write: 'always',
  isRequired: false,
});

describe('literal', () => {
  it.each([
    ['Edm.String', "O'Neil", "'O''Neil'"],
    ['Edm.Int64', ' 42 ', '42'],
    ['Edm.Decimal', '-1.50', '-1.50'],
    ['Edm.Date', '2024-05-01', '2024-05-01'],
    ['Edm.DateTimeOffset', '2024-05-01T12:00:00+02:00', '2024-05-01T12:00:00+02:00'],
    ['Edm.Duration', 'PT15M', "duration'PT15M'"],
    ['Edm.Boolean', 'true', 'true'],
  ])('writes %s %s as %s', (type, value, expected) => expect(literal(type, value)).toBe(expected));

  it.each([
    ['Edm.Int64', '1 or 1 eq 1'],
    ['Edm.Date', 'today'],
    ['Edm.DateTimeOffset', '2024-05-01T12:00:00'],
    ['Edm.Boolean', 'yes'],
    ['Edm.Guid', 'abc'],
  ])('refuses %s %s', (type, value) => expect(literal(type, value)).toBeUndefined());
});

describe('condition', () => {
  it('calls functions and compares values', () => {
    const string = property('Edm.String', true);
    const operators = operatorsFor(string);
    const find = (label: string) => operators.find((o) => o.label === label) ?? { word: 'missing', label };
    expect(condition(string, find('contains'), 'Weir')).toBe("contains(p,'Weir')");
    expect(condition(string, find('is empty'), '')).toBe('p eq null');
    expect(condition(property('Edm.Int64'), find('is at least'), '7')).toBe('p ge 7');
  });

  it('offers no test for null on a property that is never null', () =>
    expect(operatorsFor(property('Edm.Int64')).some((o) => !o.takesValue)).toBe(false));
});

describe('filterable', () => {
  it('offers the members of complex properties by their path, and nothing that the service refuses', () => {
    const members = [
      { ...property('Edm.Double'), name: 'latitude' },
      { ...property('Edm.String'), name: 'note', isFilterable: false },
    ];
    const position = { ...property('T.Position'), name: 'position', isFilterable: false, members };
    const photo = { ...property('Edm.Stream'), name: 'photo', isFilterable: false };
    expect(filterable([property('Edm.Int64'), position, photo]).map((p) => p.name)).toEqual(['p', 'position/latitude']);
  });

  it('compares enumerations by equality, with their members as text', () => {
    const kind = { ...property('T.Kind'), enumMembers: ['level', 'flow'], isSortable: false };
    expect(operatorsFor(kind).map((o) => o.word)).toEqual(['eq', 'ne']);
    expect(condition(kind, { word: 'eq', label: 'is', takesValue: true }, 'flow')).toBe("p eq 'flow'");
  });
});

describe('and', () => {
  it('keeps the meaning of what stands there', () => {
    expect(and('', 'a eq 1')).toBe('a eq 1');
    expect(and('a eq 1', 'b eq 2')).toBe('a eq 1 and b eq 2');
    expect(and('a eq 1 or a eq 2', 'b eq 2')).toBe('(a eq 1 or a eq 2) and b eq 2');
  });
});

describe('exampleFilter', () => {
  it('is about what the set has', () => {
    const named = (name: string, type: string) => ({ ...property(type), name });
    expect(exampleFilter([named('id', 'Edm.Int64'), named('name', 'Edm.String'), named('urgent', 'Edm.Boolean')])).toBe(
      "urgent eq true and contains(name,'e')",
    );
    expect(exampleFilter([named('id', 'Edm.Int64')])).toBe('');
  });
});

describe('pageUrl', () => {
  it('encodes what a URL cannot hold', () =>
    expect(
      pageUrl('http://127.0.0.1/odata/s/', encodeURIComponent('Größen'), {
        filter: "name eq 'a&b+c'",
        search: '"left bank" OR weir',
        orderBy: { property: 'name', descending: true },
        select: ['id', 'name'],
      }),
    ).toBe(
      "http://127.0.0.1/odata/s/Gr%C3%B6%C3%9Fen?$count=true&$filter=name%20eq%20'a%26b%2Bc'" +
        '&$search=%22left%20bank%22%20OR%20weir&$orderby=name%20desc&$select=id,name',
    ));
});

describe('callPath', () => {
  const named = (name: string, type: string, isRequired = true) => ({ ...property(type), name, isRequired });
  const parameters = [named('station', 'Edm.String'), named('above', 'Edm.Decimal'), named('since', 'Edm.Date', false)];

  it.each([
    [{ station: "O'Neil", above: '1.5' }, "Level(station='O''Neil',above=1.5)"],
    [{ station: 'a/b', above: '1', since: '2024-05-01' }, "Level(station='a/b',above=1,since=2024-05-01)"],
    [{ station: 'x', above: '1', since: '' }, "Level(station='x',above=1)"],
    [{ station: 'x' }, undefined],
    [{ station: 'x', above: 'much' }, undefined],
  ])('writes %j as %s', (texts, expected) =>
    expect(callPath('Level', parameters, texts as Record<string, string>)?.replace('%2F', '/')).toBe(expected),
  );
});

describe('conditionsOf', () => {
  it.each([
    ['', []],
    ['a eq 1', ['a eq 1']],
    ["contains(name,'a and b') and id lt 30", ["contains(name,'a and b')", 'id lt 30']],
    ["name eq 'it''s' and x eq 1", ["name eq 'it''s'", 'x eq 1']],
    ['(a eq 1 or b eq 2) and c eq 3', ['(a eq 1 or b eq 2)', 'c eq 3']],
    ['a eq 1 or b eq 2 and c eq 3', ['a eq 1 or b eq 2 and c eq 3']],
    ['r/any(x: x/a eq 1 and x/b eq 2)', ['r/any(x: x/a eq 1 and x/b eq 2)']],
  ])('%s', (filter, parts) => {
    expect(conditionsOf(filter)).toEqual(parts);
    expect(joined(parts)).toBe(filter);
  });
  it('keeps what a changed condition means', () => {
    expect(joined(['a eq 1', 'b eq 2 or c eq 3'])).toBe('a eq 1 and (b eq 2 or c eq 3)');
  });
});
