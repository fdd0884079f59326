// What the console knows of the service: the management interface for the model, the public OData face for data.

export interface ServiceSummary {
  name: string;
  title: string;
  revision: string;
  sets: number;
  faces: { odata: string };
}

export interface PropertyInfo {
  name: string;
  type: string;
  facets: string;
  nullable: boolean;
  column: string;
  isKey: boolean;
  isFilterable: boolean;
  isSortable: boolean;
  conversion?: string;
  enumMembers?: string[];
  members?: PropertyInfo[];
  description?: string;
  /** What it is measured in: a unit or currency, or the path to the text that says so. */
  measure?: { text?: string; path?: string };
  /** When callers may write it. */
  write: 'always' | 'create' | 'never';
  isRequired: boolean;
  defaultValue?: string;
  /** How the service makes its value. */
  made?: string;
  expression?: string;
  maxLength?: number;
  scale?: number;
  values?: string[];
  rules?: {
    minimum?: string;
    maximum?: string;
    minLength?: number;
    maxLength?: number;
    pattern?: string;
    message?: string;
  };
}

export interface NavigationInfo {
  name: string;
  target: string;
  isCollection: boolean;
  nullable: boolean;
  partner?: string;
  isContained: boolean;
  isRemote: boolean;
  through?: string;
  joins: { own: string; target: string }[];
}

export interface SetInfo {
  name: string;
  type: string;
  source: string;
  from: string;
  kind: 'set' | 'function' | 'contained';
  containedIn?: string;
  description?: string;
  order: string[];
  key: string[];
  pageSize: number;
  largestPage: number;
  allow: string[];
  rules: { read: string };
  isReadable: boolean;
  properties: PropertyInfo[];
  hidden: string[];
  searched: string[];
  requiresFilter: boolean;
  version?: string;
  changes?: string;
  /** What written rows must be: a condition, or columns whose values no two rows share. */
  valid: { condition?: string; unique: string[]; on?: string; who?: string; message?: string }[];
  derived: {
    name: string;
    table?: string;
    discriminator?: string;
    values: (string | number)[];
    properties: PropertyInfo[];
  }[];
  navigations: NavigationInfo[];
}

export interface ServiceDetails {
  name: string;
  title: string;
  revision: string;
  namespace: string;
  sources: string[];
  faces: { odata: string };
  sets: SetInfo[];
}

export interface ObjectSummary {
  name: string;
  kind: string;
  columns: string[];
  key: string[];
  comment?: string;
  fault?: string;
  published: string[];
}

export interface RoutineInfo {
  name: string;
  kind: string;
  parameters: string[];
  returns: string;
  comment?: string;
}

export interface SourceSummary {
  name: string;
  address: string;
  objects: ObjectSummary[];
  routines: RoutineInfo[];
}

export interface ObjectDetails {
  name: string;
  kind: string;
  comment?: string;
  fault?: string;
  published: string[];
  key: string[];
  uniqueKeys: string[][];
  textIndexes: { name: string; columns: string[] }[];
  columns: {
    name: string;
    declaredType: string;
    type?: string;
    nullable: boolean;
    reason: string;
    comment?: string;
    allowedValues: string[];
  }[];
  foreignKeys: { columns: string[]; target: string; targetColumns: string[] }[];
  rows: (string | null)[][];
}

/** One thing that is wrong with what was sent; `target` is the path of a property. */
export interface Fault {
  message: string;
  target?: string;
}

/** A refusal or failure, with the place in the request where there is one. */
export class RequestError extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly pointer?: string,
    readonly faults: Fault[] = [],
  ) {
    super(message);
  }
}

interface ErrorBody {
  error?: { message?: string; target?: string; details?: { code: string; message: string; target?: string }[] };
}

async function refusal(response: Response): Promise<RequestError> {
  const body = (await response.json().catch(() => ({}))) as ErrorBody;
  const pointer = body.error?.details?.find((detail) => detail.code === 'position')?.message;
  return new RequestError(
    response.status,
    body.error?.message ?? `The service answered ${response.status} without a message.`,
    pointer,
    pointer || !body.error?.message
      ? []
      : (body.error.details ?? [{ message: body.error.message, target: body.error.target }]),
  );
}

/** Who calls the services from this page: kept in memory only, and apart from who manages them. */
let authorization: string | undefined;

/** A name with a password, or a key; nobody when the secret is empty. */
export function callAs(name: string, secret: string): void {
  const basic = () => `Basic ${btoa(String.fromCharCode(...new TextEncoder().encode(`${name}:${secret}`)))}`;
  if (!secret) authorization = undefined;
  else authorization = secret.startsWith('gablekey_') ? `Bearer ${secret}` : basic();
}

/** Large numbers as texts, since a browser would round them. */
export const exactJson = 'application/json;IEEE754Compatible=true';

/** A request to a service as the caller of this page. */
function askService(url: string, init: RequestInit = {}): Promise<Response> {
  const headers = new Headers(init.headers);
  headers.set('OData-MaxVersion', '4.01');
  if (!headers.has('Accept')) headers.set('Accept', exactJson);
  if (authorization) headers.set('Authorization', authorization);
  // The browser sends nothing that it knows of this address by itself, and does not ask people either.
  return ask(url, { ...init, headers, credentials: 'omit' });
}

async function ask(url: string, init?: RequestInit): Promise<Response> {
  let response: Response;
  try {
    response = await fetch(url, init);
  } catch {
    throw new RequestError(0, 'The service does not answer. Is it still running?');
  }
  if (!response.ok) throw await refusal(response);
  return response;
}

/** What the management interface asks of requests that change something: no page of somebody else can send it. */
const own = { 'Gable-Client': 'console' };

async function send(method: string, url: string, body?: unknown): Promise<Response> {
  return ask(url, {
    method,
    headers: body === undefined ? own : { ...own, 'Content-Type': 'application/json' },
    body: body === undefined ? undefined : JSON.stringify(body),
  });
}

/** Who manages; nobody when the name is missing. Without administrators a link that the service told opens the console. */
export interface Session {
  required: boolean;
  name?: string | null;
}

export async function fetchSession(): Promise<Session> {
  return (await ask('/manage/session')).json();
}

/** With a name and a password, or with an administrator's key in place of the password. */
export async function signIn(name: string, password: string): Promise<void> {
  const isKey = password.startsWith('gablekey_');
  await (await send('POST', '/manage/session', isKey ? { key: password } : { name, password })).text();
}

const linkMark = '#link=';

/** Signs in by the link that the page was opened with, if it is one; it leaves the address, since it is good once. */
export async function signInByLink(): Promise<void> {
  if (!location.hash.startsWith(linkMark)) return;
  const link = location.hash.slice(linkMark.length);
  history.replaceState(null, '', location.pathname + location.search);
  await (await send('POST', '/manage/session', { link })).text();
}

export async function signOut(): Promise<void> {
  await (await send('DELETE', '/manage/session')).text();
}

export type Attributes = Record<string, string | string[]>;

export interface UserInfo {
  name: string;
  roles: string[];
  attributes: Attributes;
  lastUse?: string;
}

export interface KeyInfo extends UserInfo {
  id: string;
  services?: string[];
  may?: string[];
  isAdministrator: boolean;
  made: string;
  expires?: string;
}

export interface Accounts {
  roles: string[];
  users: UserInfo[];
  keys: KeyInfo[];
  administrators: string[];
}

export async function fetchAccounts(): Promise<Accounts> {
  return (await ask('/manage/accounts')).json();
}

export interface NewAccount {
  name: string;
  password?: string;
  roles: string[];
  attributes: Record<string, string[]>;
  services?: string[];
  may?: string[];
  days?: number;
}

export async function setUser(user: NewAccount): Promise<void> {
  await (await send('POST', '/manage/accounts/users', user)).text();
}

export async function makeKey(key: NewAccount): Promise<{ id: string; key: string }> {
  return (await send('POST', '/manage/accounts/keys', key)).json();
}

export async function removeUser(name: string): Promise<void> {
  await (await send('DELETE', `/manage/accounts/users/${encodeURIComponent(name)}`)).text();
}

export async function revokeKey(id: string): Promise<void> {
  await (await send('DELETE', `/manage/accounts/keys/${encodeURIComponent(id)}`)).text();
}

export interface AccessCell {
  set: string;
  caller: string;
  may: string;
  rows?: string;
  notShown: string[];
  masked: string[];
  rules: string[];
}

export async function fetchAccess(service: string): Promise<AccessCell[]> {
  return (await (await ask(`/manage/services/${encodeURIComponent(service)}/access`)).json()).access;
}

/** Somebody whose eyes are borrowed: a user, or roles with attributes; nobody known when both are missing. */
export interface Viewer {
  user?: string;
  roles?: string;
  attributes?: string;
}

export interface Seen {
  status: number;
  type?: string;
  isWhole: boolean;
  body: string;
}

function viewerOptions(viewer: Viewer): string {
  return (['user', 'roles', 'attributes'] as const)
    .flatMap((name) => (viewer[name] === undefined ? [] : [`&${name}=${encodeURIComponent(viewer[name])}`]))
    .join('');
}

export async function viewAs(url: string, viewer: Viewer): Promise<Seen> {
  return (await ask(`/manage/view?url=${encodeURIComponent(url)}${viewerOptions(viewer)}`)).json();
}

export interface RuleEffect {
  set: string;
  rule: string;
  place?: string;
  applies: boolean;
  effect: string;
}

/** What the rules do to a request, also to one that is refused. */
export async function fetchRuleEffects(url: string, viewer: Viewer): Promise<RuleEffect[]> {
  const response = await fetch(`/manage/explain?url=${encodeURIComponent(url)}${viewerOptions(viewer)}`);
  return ((await response.json().catch(() => ({}))) as { rules?: RuleEffect[] }).rules ?? [];
}

export interface AuditEvent {
  time: string;
  event: string;
  caller?: string;
  by?: string;
  key?: string;
  address?: string;
  method?: string;
  path?: string;
  status?: number;
  code?: string;
  detail?: string;
  /** How many like it are told by this one. */
  count?: number;
}

export async function fetchAudit(event: string | null): Promise<{ isKept: boolean; events: AuditEvent[] }> {
  return (await ask(`/manage/audit?count=200${event ? `&event=${event}` : ''}`)).json();
}

export async function fetchWorkspace(): Promise<{ title: string }> {
  return (await ask('/manage/workspace')).json();
}

export async function fetchServices(): Promise<ServiceSummary[]> {
  return (await (await ask('/manage/services')).json()).services;
}

export async function fetchService(name: string): Promise<ServiceDetails> {
  return (await ask(`/manage/services/${encodeURIComponent(name)}`)).json();
}

export async function fetchSources(): Promise<SourceSummary[]> {
  return (await (await ask('/manage/sources')).json()).sources;
}

export async function fetchObject(source: string, name: string): Promise<ObjectDetails> {
  return (await ask(`/manage/sources/${encodeURIComponent(source)}/object?name=${encodeURIComponent(name)}`)).json();
}

export async function fetchMetadata(root: string): Promise<string> {
  return (await ask(`${root}$metadata`, { headers: { Accept: 'application/xml' } })).text();
}

export interface Page {
  rows: Record<string, unknown>[];
  count?: number;
  nextLink?: string;
  milliseconds: number;
  bytes: number;
}

export async function fetchPage(url: string, pageSize: number): Promise<Page> {
  const start = performance.now();
  const response = await askService(url, { headers: { Prefer: `maxpagesize=${pageSize}` } });
  const text = await response.text();
  const milliseconds = performance.now() - start;
  const body = JSON.parse(text);
  return {
    rows: body.value,
    count: body['@count'],
    nextLink: body['@nextLink'],
    milliseconds,
    bytes: new Blob([text]).size,
  };
}

/** Pages that one download follows at most, so that a page of this browser does not hold a whole large table. */
const mostPages = 200;

/** The entities of a list and of the pages that follow it, as JSON Lines; lines about the list itself are left out. */
export async function fetchLines(url: string): Promise<{ lines: Blob; isWhole: boolean }> {
  const parts: string[] = [];
  let next: string | undefined = url;
  for (let page = 0; next && page < mostPages; page++) {
    const response = await askService(next, { headers: { Accept: 'application/x-ndjson' } });
    const text = (await response.text()).replace(/^\{"@count":[^\n]*\n/, '');
    const end = text.lastIndexOf('{"@nextLink":');
    const hasNext = end >= 0 && (end === 0 || text[end - 1] === '\n');
    parts.push(hasNext ? text.slice(0, end) : text);
    next = hasNext ? JSON.parse(text.slice(end))['@nextLink'] : undefined;
  }
  return { lines: new Blob(parts, { type: 'application/x-ndjson' }), isWhole: !next };
}

/** What the caller may do at an address, as the service says it. */
export async function fetchAllowed(url: string): Promise<string[]> {
  const response = await askService(url, { method: 'OPTIONS' });
  return (response.headers.get('Allow') ?? '').split(', ');
}

export type Entity = Record<string, unknown>;

/** An entity with the tag of its state. */
export interface TaggedEntity {
  entity: Entity;
  tag?: string;
}

export async function fetchEntity(url: string): Promise<TaggedEntity> {
  const response = await askService(url);
  return { entity: await response.json(), tag: response.headers.get('ETag') ?? undefined };
}

async function write(method: string, url: string, body: Entity | undefined, tag: string | undefined): Promise<void> {
  const headers: Record<string, string> = { Prefer: 'return=minimal' };
  if (body) headers['Content-Type'] = exactJson;
  if (tag) headers['If-Match'] = tag;
  await (await askService(url, { method, headers, body: body && JSON.stringify(body) })).text();
}

export function createEntity(url: string, entity: Entity): Promise<void> {
  return write('POST', url, entity, undefined);
}

export function changeEntity(url: string, change: Entity, tag: string | undefined): Promise<void> {
  return write('PATCH', url, change, tag);
}

export function deleteEntity(url: string, tag: string | undefined): Promise<void> {
  return write('DELETE', url, undefined, tag);
}

export async function fetchRows(url: string): Promise<Entity[]> {
  return (await (await askService(url)).json()).value;
}

/** A single value; null when there is none. */
export async function fetchValue(url: string): Promise<string | null> {
  const response = await askService(url);
  return response.status === 204 ? null : String((await response.json()).value);
}
