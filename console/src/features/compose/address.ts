// An address of a service as parts that forms can change, and back.

import type { ServiceSummary } from '../../api/client';

/** An address below a service. */
export interface ComposedAddress {
  service: string;
  face: string;
  /** What follows the service's root, without options. */
  path: string;
  /** In their order, decoded. */
  options: [string, string][];
}

/** An option that a form offers. */
export interface OptionField {
  name: string;
  label: string;
  hint: string;
}

const optionsOf: Record<string, OptionField[]> = {
  odata: [
    { name: '$select', label: 'Properties', hint: 'code, name' },
    { name: '$filter', label: 'Condition', hint: "name eq 'Ashford Weir'" },
    { name: '$orderby', label: 'Order', hint: 'name desc' },
    { name: '$expand', label: 'Related', hint: 'readings($top=3)' },
    { name: '$search', label: 'Search', hint: 'weir' },
    { name: '$top', label: 'Rows', hint: '10' },
    { name: '$skip', label: 'Skip', hint: '0' },
    { name: '$count', label: 'Count', hint: 'true' },
    { name: '$format', label: 'Format', hint: 'json, csv, jsonl' },
  ],
  rest: [
    { name: 'fields', label: 'Properties', hint: 'code,name' },
    { name: 'filter', label: 'Condition', hint: "name eq 'Ashford Weir'" },
    { name: 'sort', label: 'Order', hint: '-name' },
    { name: 'include', label: 'Related', hint: 'readings' },
    { name: 'search', label: 'Search', hint: 'weir' },
    { name: 'limit', label: 'Rows', hint: '10' },
    { name: 'count', label: 'Count', hint: 'true' },
    { name: 'format', label: 'Format', hint: 'json, csv, xml, xlsx' },
  ],
};

/** The options that forms offer on a face. */
export function fieldsOf(face: string): OptionField[] {
  return optionsOf[face] ?? [];
}

/** Where a service's addresses start on a face, as a path. */
export function rootOf(service: ServiceSummary, face: string): string {
  const url = service.faces[face];
  return url === undefined ? '' : new URL(url).pathname;
}

/** The parts of an address; undefined = it is of no service that is known. */
export function parseAddress(target: string, services: ServiceSummary[]): ComposedAddress | undefined {
  const mark = target.indexOf('?');
  const path = mark < 0 ? target : target.slice(0, mark);
  const query = mark < 0 ? '' : target.slice(mark + 1);
  for (const service of services)
    for (const face of Object.keys(service.faces)) {
      const root = rootOf(service, face);
      if (path.startsWith(root))
        return { service: service.name, face, path: path.slice(root.length), options: optionsIn(query) };
    }
  return undefined;
}

function optionsIn(query: string): [string, string][] {
  return query
    .split('&')
    .filter(Boolean)
    .map((part): [string, string] => {
      const equal = part.indexOf('=');
      return equal < 0 ? [decode(part), ''] : [decode(part.slice(0, equal)), decode(part.slice(equal + 1))];
    });
}

/** A text that is encoded wrongly stays as it is. */
function decode(text: string): string {
  try {
    return decodeURIComponent(text.replace(/\+/g, ' '));
  } catch {
    return text;
  }
}

/** The address of its parts. What may stand in a query as it is, stays readable. */
export function buildAddress(root: string, { path, options }: ComposedAddress): string {
  const query = options.map(([name, value]) => `${encode(name)}=${encode(value).replace(/%3D/g, '=')}`).join('&');
  return root + path + (query ? `?${query}` : '');
}

function encode(text: string): string {
  return encodeURIComponent(text).replace(/%(24|2C|3A|2F|40|28|29|27|3B|2A)/g, (sign) => decodeURIComponent(sign));
}

/** The options with one set; an empty value takes it away. */
export function withOption(options: [string, string][], name: string, value: string): [string, string][] {
  if (!value) return options.filter(([other]) => other !== name);
  return options.some(([other]) => other === name)
    ? options.map(([other, old]): [string, string] => (other === name ? [name, value] : [other, old]))
    : [...options, [name, value]];
}

/** The set and the key in a path, as far as it is that simple; undefined = it is not. */
export function setAndKey(face: string, path: string): { set: string; key: string; rest: string } | undefined {
  const found =
    face === 'odata'
      ? /^([^/(]*)(?:\(((?:[^()']|'(?:[^']|'')*')*)\))?(\/.*)?$/.exec(path)
      : /^([^/]*)(?:\/([^/]+))?(\/.*)?$/.exec(path);
  return found ? { set: decode(found[1] ?? ''), key: found[2] ?? '', rest: found[3] ?? '' } : undefined;
}

/** The path of a set, or of one of its entities. */
export function pathOf(face: string, set: string, key: string, rest = ''): string {
  const name = encodeURIComponent(set).replace(/%24/g, '$');
  if (!key) return name + rest;
  return (face === 'odata' ? `${name}(${key})` : `${name}/${key}`) + rest;
}

/** The request as a text of the workspace. */
export interface KeptText {
  name: string;
  title: string;
  comment: string;
  method: string;
  target: string;
  as: string;
  headers: [string, string][];
  body: string;
  expectations: string[];
}

/** A request as `requests/*.http` has it. */
export function requestText(request: KeptText): string {
  const lines = [`### ${request.title || request.name}`];
  for (const line of request.comment.split('\n').filter((text) => text.trim())) lines.push(`# ${line.trim()}`);
  lines.push(`# @name ${request.name}`);
  if (request.as) lines.push(`# @as ${request.as}`);
  for (const expected of request.expectations) lines.push(`# @expect ${expected}`);
  lines.push(`${request.method} {{host}}${request.target.replace(/ /g, '%20')}`);
  if (request.as) lines.push('Authorization: {{caller}}');
  for (const [name, value] of request.headers) lines.push(`${name}: ${value}`);
  if (request.body) lines.push('', request.body);
  return lines.join('\n') + '\n';
}

/** A file of requests with one more at its end. */
export function withRequest(file: string, request: KeptText): string {
  const before = file.trim() ? `${file.trimEnd()}\n\n` : '@host = http://127.0.0.1:8460\n\n';
  return before + requestText(request);
}

/** Headers as lines of text. */
export function headersIn(text: string): [string, string][] {
  return text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)
    .map((line): [string, string] => {
      const colon = line.indexOf(':');
      return colon < 0 ? [line, ''] : [line.slice(0, colon).trim(), line.slice(colon + 1).trim()];
    });
}
