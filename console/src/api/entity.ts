// Entities as they are edited: which fields there are, what they take, how they become a body. No React here.
import type { Entity, NavigationInfo, PropertyInfo, SetInfo } from './client';

/** A single value that people edit. */
export interface Field {
  /** As faults name it: a property, or the member of a complex one. */
  path: string;
  property: PropertyInfo;
  /** The relation whose entities are to choose from. */
  relation?: NavigationInfo;
}

const numbers = /^Edm\.(Byte|SByte|Int16|Int32|Int64|Decimal|Single|Double)$/;
const others = /^Edm\.(Boolean|String|Guid|Date|TimeOfDay|DateTimeOffset|Duration)$/;

export function isNumber(property: PropertyInfo): boolean {
  return numbers.test(property.type);
}

/** What else is declared of a property, on one line: how it is kept, measured, made and written, and what its values must be. */
export function notesOf(property: PropertyInfo, set: Pick<SetInfo, 'allow'>): string {
  const { measure, expression, made, write, values, rules = {} } = property;
  const isWritten = set.allow.includes('create') || set.allow.includes('update');
  const notes: (string | false | 0 | undefined)[] = [
    property.members
      ?.map((member) => [member.name, member.facets, notesOf(member, { allow: [] })].filter(Boolean).join(' '))
      .join(', '),
    property.conversion,
    measure && `in ${measure.text ?? `what ${measure.path} says`}`,
    expression && `computed: ${expression}`,
  ];
  if (isWritten)
    notes.push(
      made && (write === 'never' ? `made: ${made}` : `${made} if left out`),
      !made && !expression && write === 'never' && 'never written',
      !property.isKey && write === 'create' && 'written at create only',
      values && `one of ${values.join(', ')}`,
      rules.minimum && `at least ${rules.minimum}`,
      rules.maximum && `at most ${rules.maximum}`,
      rules.minLength && `${rules.minLength} characters or more`,
      rules.maxLength && `${rules.maxLength} characters or fewer`,
      rules.pattern && `like ${rules.pattern.replace(/^\^\(\?:(.*)\)\$$/, '$1')}`,
    );
  return notes.filter(Boolean).join(' · ');
}

/** The values of an entity that can be written, new or changed, in the order of its type. */
export function fieldsOf(set: SetInfo, isNew: boolean): Field[] {
  const relationOf = (name: string) =>
    set.navigations.find((n) => !n.isCollection && !n.through && n.joins.length === 1 && n.joins[0]?.own === name);
  return set.properties
    .flatMap(
      (p) => p.members?.map((m) => ({ path: `${p.name}/${m.name}`, property: m })) ?? [{ path: p.name, property: p }],
    )
    .filter(({ property: p }) => p.enumMembers || numbers.test(p.type) || others.test(p.type))
    .filter(({ property: p }) => (isNew ? p.write !== 'never' : p.write === 'always'))
    .map((field) => ({ ...field, relation: relationOf(field.path) }));
}

/** The texts of an entity's fields; nothing is an empty text. */
export function textsOf(entity: Entity, fields: Field[]): Record<string, string> {
  return Object.fromEntries(
    fields.map(({ path }) => {
      const value = path.split('/').reduce<unknown>((at, name) => (at as Entity | null)?.[name], entity);
      return [path, value === null || value === undefined ? '' : String(value)];
    }),
  );
}

const shapes: Record<string, [RegExp, string]> = {
  'Edm.Guid': [/^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i, 'A uuid, such as 21ec2020-3aea-1069-a2dd-08002b30309d'],
  'Edm.Date': [/^\d{4}-\d{2}-\d{2}$/, 'A date, such as 2024-05-01'],
  'Edm.TimeOfDay': [/^\d{2}:\d{2}(:\d{2}(\.\d+)?)?$/, 'A time, such as 14:30'],
  'Edm.DateTimeOffset': [
    /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}(:\d{2}(\.\d+)?)?(Z|[+-]\d{2}:\d{2})$/,
    'A time with its zone, such as 2024-05-01T14:30:00Z',
  ],
  'Edm.Duration': [/^-?P(?=.)(\d+D)?(T(?=\d)(\d+H)?(\d+M)?(\d+(\.\d+)?S)?)?$/, 'A duration, such as PT15M'],
};

/** What is wrong with a text, as far as it can be told here; the service is the judge. */
export function faultOf({ property }: Field, text: string, isNew: boolean): string | undefined {
  const rules = property.rules ?? {};
  const told = (words: string) => rules.message ?? words;
  if (text === '') {
    if (isNew) return property.isRequired ? 'This is needed.' : undefined;
    return property.nullable ? undefined : 'This cannot be empty.';
  }
  if (isNumber(property)) return numberFault(property, text, told);
  const shape = shapes[property.type];
  if (shape && !shape[0].test(text)) return shape[1];
  if (property.type === 'Edm.Date' || property.type === 'Edm.DateTimeOffset') {
    if (rules.minimum && text < rules.minimum) return told(`Not before ${rules.minimum}`);
    if (rules.maximum && text > rules.maximum) return told(`Not after ${rules.maximum}`);
  }
  return property.type === 'Edm.String' ? textFault(property, text, told) : undefined;
}

function numberFault(property: PropertyInfo, text: string, told: (words: string) => string): string | undefined {
  const rules = property.rules ?? {};
  if (!/^-?\d+(\.\d+)?(e-?\d+)?$/i.test(text)) return 'A number, with a point before its fraction';
  const isWhole = !/Decimal|Single|Double/.test(property.type);
  if (isWhole && !/^-?\d+$/.test(text)) return 'A whole number';
  const digits = text.split('.')[1]?.length ?? 0;
  if (property.scale !== undefined && digits > property.scale)
    return `At most ${property.scale} digits after the point`;
  if (rules.minimum !== undefined && Number(text) < Number(rules.minimum)) return told(`At least ${rules.minimum}`);
  if (rules.maximum !== undefined && Number(text) > Number(rules.maximum)) return told(`At most ${rules.maximum}`);
  return undefined;
}

function textFault(property: PropertyInfo, text: string, told: (words: string) => string): string | undefined {
  const rules = property.rules ?? {};
  const length = [...text].length;
  const most = Math.min(property.maxLength ?? Infinity, rules.maxLength ?? Infinity);
  if (length > most) return told(`At most ${most} characters; these are ${length}`);
  if (length < (rules.minLength ?? 0)) return told(`At least ${rules.minLength} characters`);
  if (rules.pattern && !new RegExp(rules.pattern).test(text))
    return told('It does not have the form that is asked for');
  return undefined;
}

function valueOf(property: PropertyInfo, text: string): unknown {
  if (text === '') return null;
  if (property.type === 'Edm.Boolean') return text === 'true';
  // Those that a browser's numbers cannot hold are sent as the texts that they are.
  return isNumber(property) && !/Int64|Decimal/.test(property.type) ? Number(text) : text;
}

/** The body of a new entity, or of a change: only what differs. */
export function bodyOf(
  fields: Field[],
  texts: Record<string, string>,
  before: Record<string, string>,
  isNew: boolean,
): Entity {
  const body: Entity = {};
  for (const { path, property } of fields) {
    if (isNew ? texts[path] === '' : texts[path] === before[path]) continue;
    const [group = '', member] = path.split('/');
    const value = valueOf(property, texts[path] ?? '');
    if (member) body[group] = { ...(body[group] as Entity | undefined), [member]: value };
    else body[path] = value;
  }
  return body;
}

/** Where the unit of a value stands, for one that differs from row to row. */
export function unitUrl(url: string | undefined, { property }: Field): string | undefined {
  const path = property.measure?.path;
  return url && path ? `${url}/${path.split('/').map(encodeURIComponent).join('/')}` : undefined;
}

function literal(type: string, text: string): string {
  if (type === 'Edm.String') return `'${text.replace(/'/g, "''")}'`;
  return type === 'Edm.Duration' ? `duration'${text}'` : text;
}

function typeOf(set: SetInfo, name: string): string {
  return set.properties.find((p) => p.name === name)?.type ?? 'Edm.String';
}

/** The address of an entity. */
export function entityUrl(root: string, set: SetInfo, entity: Entity): string {
  const written = (name: string) => encodeURIComponent(literal(typeOf(set, name), String(entity[name])));
  const [only = '', ...more] = set.key;
  const key = more.length === 0 ? written(only) : set.key.map((k) => `${k}=${written(k)}`).join(',');
  return `${root}${encodeURIComponent(set.name)}(${key})`;
}

/** The property by which people know the entities of a set. */
export function labelOf(set: SetInfo): string {
  const texts = set.properties.filter((p) => p.type === 'Edm.String' && p.isFilterable).map((p) => p.name);
  return ['name', 'full_name', 'title', 'label', 'code'].find((n) => texts.includes(n)) ?? texts[0] ?? set.key[0] ?? '';
}

function labelled(root: string, set: SetInfo, value: string): string {
  return `${root}${encodeURIComponent(set.name)}?$select=${[...new Set([value, labelOf(set)])].join(',')}`;
}

/** The first entities to choose from that have a text in their label. */
export function choicesUrl(root: string, set: SetInfo, value: string, text: string): string {
  const label = labelOf(set);
  const known = set.properties.find((p) => p.name === label);
  const condition = `contains(tolower(${label}),${literal('Edm.String', text.toLowerCase())})`;
  const filter = text && known?.type === 'Edm.String' ? `&$filter=${encodeURIComponent(condition)}` : '';
  return `${labelled(root, set, value)}&$orderby=${known?.isSortable ? label : set.key[0]}&$top=50${filter}`;
}

/** The entity that a value leads to, with its label. */
export function chosenUrl(root: string, set: SetInfo, value: string, text: string): string {
  return `${labelled(root, set, value)}&$filter=${encodeURIComponent(`${value} eq ${literal(typeOf(set, value), text)}`)}`;
}

/** The editor for a point in time or a time of day, as far as a browser's can hold the value; undefined = it is edited as text. */
export function clockOf(type: string, text: string) {
  const seconds = (value: string) => (/(^|T)\d\d:\d\d$/.test(value) ? `${value}:00` : value);
  if (type === 'Edm.DateTimeOffset' && /^(|\d{4}-\d\d-\d\dT\d\d:\d\d(:\d\d(\.\d{1,3})?)?Z)$/.test(text))
    return {
      type: 'datetime-local',
      note: 'In UTC.',
      shown: text.replace('Z', ''),
      read: (value: string) => (value ? `${seconds(value)}Z` : ''),
    };
  if (type === 'Edm.TimeOfDay' && /^(|\d\d:\d\d(:\d\d(\.\d{1,3})?)?)$/.test(text))
    return { type: 'time', note: '', shown: text, read: (value: string) => (value ? seconds(value) : '') };
  return undefined;
}
