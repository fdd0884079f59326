// Requests to the OData face, as text: literals, conditions, addresses. No React here.
import type { PropertyInfo } from './client';

export interface Operator {
  word: string;
  label: string;
  isFunction?: boolean;
  takesValue?: boolean;
}

const comparison: Operator[] = [
  { word: 'eq', label: 'is', takesValue: true },
  { word: 'ne', label: 'is not', takesValue: true },
  { word: 'gt', label: 'is more than', takesValue: true },
  { word: 'ge', label: 'is at least', takesValue: true },
  { word: 'lt', label: 'is less than', takesValue: true },
  { word: 'le', label: 'is at most', takesValue: true },
];
const text: Operator[] = [
  { word: 'contains', label: 'contains', isFunction: true, takesValue: true },
  { word: 'startswith', label: 'starts with', isFunction: true, takesValue: true },
  { word: 'endswith', label: 'ends with', isFunction: true, takesValue: true },
];
const nullTests: Operator[] = [
  { word: 'eq null', label: 'is empty' },
  { word: 'ne null', label: 'is not empty' },
];

/** What can be asked of a property in a filter. */
export function operatorsFor(property: PropertyInfo): Operator[] {
  const own =
    property.type === 'Edm.Binary'
      ? []
      : property.type === 'Edm.String'
        ? property.conversion
          ? comparison.slice(0, 2)
          : [...text, ...comparison]
        : property.type === 'Edm.Boolean' ||
            property.type === 'Edm.Guid' ||
            property.enumMembers ||
            !property.isSortable
          ? comparison.slice(0, 2)
          : comparison;
  return property.nullable ? [...own, ...nullTests] : own;
}

/** The properties that a condition can be made of: single values, and the members of complex ones by their path. */
export function filterable(properties: PropertyInfo[]): PropertyInfo[] {
  return properties
    .flatMap((p) => (p.members ? p.members.map((m) => ({ ...m, name: `${p.name}/${m.name}` })) : [p]))
    .filter((p) => p.isFilterable);
}

/** What a filter of the set may look like. */
export function exampleFilter(properties: PropertyInfo[]): string {
  const of = (type: string) => filterable(properties).find((p) => p.type === type && !p.conversion)?.name;
  const [flag, word] = [of('Edm.Boolean'), of('Edm.String')];
  return [flag && `${flag} eq true`, word && `contains(${word},'e')`].filter(Boolean).join(' and ');
}

const shapes: Record<string, RegExp> = {
  'Edm.Boolean': /^(true|false)$/,
  'Edm.Guid': /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i,
  'Edm.Date': /^\d{4}-\d{2}-\d{2}$/,
  'Edm.TimeOfDay': /^\d{2}:\d{2}(:\d{2}(\.\d+)?)?$/,
  'Edm.DateTimeOffset': /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}(:\d{2}(\.\d+)?)?(Z|[+-]\d{2}:\d{2})$/,
  'Edm.Duration': /^-?P[\dTDHMS.]+$/,
};

const examples: Record<string, string> = {
  'Edm.Boolean': 'true or false',
  'Edm.Guid': '21ec2020-3aea-1069-a2dd-08002b30309d',
  'Edm.Date': '2024-05-01',
  'Edm.TimeOfDay': '07:30:00',
  'Edm.DateTimeOffset': '2024-05-01T12:00:00Z',
  'Edm.Duration': 'PT15M',
};

/** An example of what may be typed for a property. */
export function exampleOf(type: string, members?: string[]): string {
  if (members?.[0]) return members[0];
  return examples[type] ?? (type === 'Edm.String' ? 'text' : '12.5');
}

/** A typed value as a literal of the URL; undefined when it is no value of the type. */
export function literal(type: string, value: string): string | undefined {
  // The members of enumerations are written like text (4.01).
  if (type === 'Edm.String' || !type.startsWith('Edm.')) return `'${value.replaceAll("'", "''")}'`;
  const trimmed = value.trim();
  const shape = shapes[type] ?? /^-?\d+(\.\d+)?(e[+-]?\d+)?$/i;
  if (!shape.test(trimmed)) return undefined;
  return type === 'Edm.Duration' ? `duration'${trimmed}'` : trimmed;
}

/** A condition on one property; undefined when the value does not fit. */
export function condition(property: PropertyInfo, operator: Operator, value: string): string | undefined {
  if (!operator.takesValue) return `${property.name} ${operator.word}`;
  const written = literal(property.type, value);
  if (written === undefined) return undefined;
  return operator.isFunction
    ? `${operator.word}(${property.name},${written})`
    : `${property.name} ${operator.word} ${written}`;
}

/** Adds a condition to a filter so that both must hold. */
export function and(filter: string, added: string): string {
  const present = filter.trim();
  if (!present) return added;
  return / or /i.test(present) && !present.startsWith('(') ? `(${present}) and ${added}` : `${present} and ${added}`;
}

/** The conditions of a filter that must all hold; one that has an `or` outside of parentheses is a single one. */
export function conditionsOf(filter: string): string[] {
  const parts: string[] = [];
  let [depth, start, isQuoted] = [0, 0, false];
  for (let at = 0; at < filter.length; at++) {
    const char = filter[at];
    if (char === "'") isQuoted = !isQuoted;
    if (isQuoted) continue;
    if (char === '(') depth++;
    if (char === ')') depth--;
    if (depth > 0) continue;
    const rest = filter.slice(at);
    if (/^ or /i.test(rest)) return [filter.trim()];
    if (/^ and /i.test(rest)) {
      parts.push(filter.slice(start, at).trim());
      start = at + ' and '.length;
      at = start - 1;
    }
  }
  return [...parts, filter.slice(start).trim()].filter(Boolean);
}

/** Conditions as one filter. */
export function joined(conditions: string[]): string {
  return conditions.reduce((filter, condition) => {
    const hasOr = conditionsOf(condition).length === 1 && / or /i.test(condition) && !condition.startsWith('(');
    return and(filter, conditions.length > 1 && hasOr ? `(${condition})` : condition);
  }, '');
}

export interface DataQuery {
  filter: string;
  search: string;
  orderBy?: { property: string; descending: boolean };
  select: string[];
}

function encode(value: string): string {
  // Characters that a query may hold stay readable.
  return encodeURIComponent(value).replace(/%(2C|2F|3A|24|40)/g, (code) => decodeURIComponent(code));
}

/** A query with values for its parameters as a path; undefined when one is missing or is no value of its type. */
export function callPath(name: string, parameters: PropertyInfo[], texts: Record<string, string>): string | undefined {
  const parts: string[] = [];
  for (const parameter of parameters) {
    const text = texts[parameter.name] ?? '';
    if (text === '') {
      if (parameter.isRequired) return undefined;
      continue;
    }
    const written = literal(parameter.type, text);
    if (written === undefined) return undefined;
    parts.push(`${parameter.name}=${encode(written)}`);
  }
  return `${encodeURIComponent(name)}(${parts.join(',')})`;
}

/**
 * The address of the first page of a set, or of the result of a call.
 *
 * @param path The set's name or the call, encoded.
 * @param isList Several rows may come, which are counted.
 */
export function pageUrl(root: string, path: string, query: DataQuery, isList = true): string {
  const options = isList ? ['$count=true'] : [];
  if (query.filter.trim()) options.push(`$filter=${encode(query.filter.trim())}`);
  if (query.search.trim()) options.push(`$search=${encode(query.search.trim())}`);
  if (query.orderBy)
    options.push(`$orderby=${encode(query.orderBy.property + (query.orderBy.descending ? ' desc' : ''))}`);
  if (query.select.length > 0) options.push(`$select=${query.select.map(encode).join(',')}`);
  return root + path + (options.length > 0 ? `?${options.join('&')}` : '');
}
