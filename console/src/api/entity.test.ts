import { describe, expect, it } from 'vitest';
import type { PropertyInfo, SetInfo } from './client';
import { bodyOf, choicesUrl, clockOf, entityUrl, faultOf, fieldsOf, notesOf, textsOf, unitUrl } from './entity';

function property(name: string, type: string, more: Partial<PropertyInfo> = {}): PropertyInfo {
  return {
    name,
    type,
    facets: type,
    nullable: false,
    column: name,
    isKey: false,
    isFilterable: true,
    isSortable: true,
    write: 'always',
    isRequired: true,
    ...more,
  };
}

const optional = { nullable: true, isRequired: false };
const set = {
  name: 'Visits',
  key: ['id'],
  properties: [
    property('id', 'Edm.Int64', { write: 'create', isRequired: false }),
    property('station_id', 'Edm.Int64', { write: 'create' }),
    property('minutes', 'Edm.Decimal', {
      scale: 2,
      rules: { minimum: '1', maximum: '480', message: 'Up to eight hours.' },
      ...optional,
    }),
    property('purpose', 'Edm.String', { maxLength: 10, rules: { minLength: 3, pattern: '^(?:[A-Z].*)$' } }),
    property('done', 'Edm.Boolean', { isRequired: false }),
    property('label', 'Edm.String', { write: 'never' }),
    property('position', 'T.Position', { members: [property('latitude', 'Edm.Double')] }),
  ],
  navigations: [
    { name: 'station', target: 'Stations', isCollection: false, joins: [{ own: 'station_id', target: 'id' }] },
  ],
} as unknown as SetInfo;

function field(name: string) {
  const found = fieldsOf(set, true).find((f) => f.path === name);
  if (!found) throw new Error(`There is no field ${name}.`);
  return found;
}

describe('what is declared of a property', () => {
  it.each([
    [
      property('minutes', 'Edm.Decimal', { rules: { minimum: '1', maximum: '480' }, measure: { text: 'min' } }),
      'in min · at least 1 · at most 480',
    ],
    [property('value', 'Edm.Decimal', { measure: { path: 'sensor/unit' } }), 'in what sensor/unit says'],
    [
      property('code', 'Edm.String', {
        write: 'create',
        rules: { minLength: 3, maxLength: 9, pattern: '^(?:[A-Z]+)$' },
      }),
      'written at create only · 3 characters or more · 9 characters or fewer · like [A-Z]+',
    ],
    [property('number', 'Edm.String', { write: 'never', made: 'VIS-{00000}' }), 'made: VIS-{00000}'],
    [property('purpose', 'Edm.String', { made: 'Inspection' }), 'Inspection if left out'],
    [property('label', 'Edm.String', { write: 'never', expression: 'station/code' }), 'computed: station/code'],
    [property('stamp', 'Edm.Int64', { write: 'never' }), 'never written'],
    [property('region', 'Edm.String', { values: ['north', 'south'] }), 'one of north, south'],
    [
      property('position', 'T.Position', { members: [property('latitude', 'Edm.Double', { measure: { text: '°' } })] }),
      'latitude Edm.Double in °',
    ],
    [property('id', 'Edm.Int64', { write: 'create', isKey: true }), ''],
  ])('%o', (of, notes) => expect(notesOf(of, { allow: ['read', 'create'] })).toBe(notes));

  it('says nothing of writing where nothing is written', () => {
    const code = property('code', 'Edm.String', { write: 'never', values: ['a'], rules: { maxLength: 9 } });
    expect(notesOf(code, { allow: ['read'] })).toBe('');
  });
});

describe('fields', () => {
  it('are what may be written, with the relations that they choose from', () => {
    expect(fieldsOf(set, true).map((f) => f.path)).toEqual([
      'id',
      'station_id',
      'minutes',
      'purpose',
      'done',
      'position/latitude',
    ]);
    expect(fieldsOf(set, false).map((f) => f.path)).toEqual(['minutes', 'purpose', 'done', 'position/latitude']);
    expect(field('station_id').relation?.target).toBe('Stations');
  });

  it.each([
    ['minutes', '5.25', undefined],
    ['minutes', '', undefined],
    ['minutes', '5.255', 'At most 2 digits after the point'],
    ['minutes', '500', 'Up to eight hours.'],
    ['minutes', 'five', 'A number, with a point before its fraction'],
    ['station_id', '1.5', 'A whole number'],
    ['station_id', '', 'This is needed.'],
    ['purpose', 'Go', 'At least 3 characters'],
    ['purpose', 'Going there now', 'At most 10 characters; these are 15'],
    ['purpose', 'going', 'It does not have the form that is asked for'],
    ['purpose', 'Going', undefined],
  ])('%s with %s is told as %s', (name, text, fault) => expect(faultOf(field(name), text, true)).toBe(fault));

  it('become the body of a new entity, or of what changes', () => {
    const fields = fieldsOf(set, true);
    const entity = { minutes: '5', purpose: 'Going', done: false, position: { latitude: 52.5 } };
    const before = textsOf(entity, fields);
    expect(before.minutes).toBe('5');
    expect(before['position/latitude']).toBe('52.5');
    expect(bodyOf(fields, before, {}, true)).toEqual(entity);
    expect(bodyOf(fields, { ...before, minutes: '', done: 'true' }, before, false)).toEqual({
      minutes: null,
      done: true,
    });
  });

  it('keep numbers that a browser would round', () => {
    const fields = fieldsOf(set, true);
    const entity = { id: '9007199254740993', station_id: '-9223372036854775808', minutes: '12345678901234567.89' };
    expect(bodyOf(fields, textsOf(entity, fields), {}, true)).toMatchObject(entity);
  });

  it('say where their unit stands', () => {
    const measured = (measure: PropertyInfo['measure']) => ({
      path: 'value',
      property: property('value', 'Edm.Decimal', { measure }),
    });
    expect(unitUrl('/R(1)', measured({ path: 'Sensor/größe' }))).toBe('/R(1)/Sensor/gr%C3%B6%C3%9Fe');
    expect(unitUrl('/R(1)', measured({ text: 'm' }))).toBeUndefined();
    expect(unitUrl(undefined, measured({ path: 'unit' }))).toBeUndefined();
  });
});

describe('addresses', () => {
  it.each([
    [['code'], { code: 'CAL/2 & more' }, "Visits('CAL%2F2%20%26%20more')"],
    [['id', 'line'], { id: 1, line: 2 }, 'Visits(id=1,line=2)'],
  ])('name the key %s', (key, entity, url) => {
    const properties = key.map((name) => property(name, name === 'code' ? 'Edm.String' : 'Edm.Int64'));
    expect(entityUrl('', { ...set, key, properties }, entity)).toBe(url);
  });

  it('ask for what there is to choose from', () => {
    const properties = [property('id', 'Edm.Int64'), property('code', 'Edm.String'), property('name', 'Edm.String')];
    expect(choicesUrl('/', { ...set, name: 'Stations', properties }, 'id', 'Weir')).toBe(
      "/Stations?$select=id,name&$orderby=name&$top=50&$filter=contains(tolower(name)%2C'weir')",
    );
  });
});

describe('clockOf', () => {
  it.each([
    ['Edm.DateTimeOffset', '2024-05-01T14:30:00Z', 'datetime-local', '2024-05-01T14:30:00', '2024-05-01T14:30:00Z'],
    ['Edm.DateTimeOffset', '2024-05-01T14:30:00.125Z', 'datetime-local', '2024-05-01T14:30:00.125', undefined],
    ['Edm.DateTimeOffset', '', 'datetime-local', '', ''],
    ['Edm.TimeOfDay', '14:30:00', 'time', '14:30:00', '14:30:00'],
  ])('edits %s %s as %s', (type, text, editor, shown, back) => {
    const clock = clockOf(type, text);
    expect([clock?.type, clock?.shown, clock?.read(shown)]).toEqual([editor, shown, back ?? text]);
  });

  it('reads what browsers leave out', () => {
    expect(clockOf('Edm.DateTimeOffset', '')?.read('2024-05-01T14:30')).toBe('2024-05-01T14:30:00Z');
    expect(clockOf('Edm.TimeOfDay', '')?.read('14:30')).toBe('14:30:00');
  });

  it.each([
    ['Edm.DateTimeOffset', '2024-05-01T14:30:00.1234567Z'],
    ['Edm.DateTimeOffset', '2024-05-01T14:30:00+02:00'],
    ['Edm.Duration', 'PT15M'],
  ])('leaves %s %s as text', (type, text) => expect(clockOf(type, text)).toBeUndefined());
});
