// What the console knows of the service: the management interface for the model, the public OData face for data.

import type {
  AccessCell,
  AccountBody,
  Accounts,
  AuditPage,
  DraftReview,
  ExplainedAnswer,
  KeptExampleFile,
  KeptRequestInfo,
  KeptRequestOutcome,
  MadeKey,
  ObjectDetails,
  PublishingState,
  RefusedRequest,
  RevisionDifference,
  RuleEffect,
  SecretInfo,
  SeenAnswer,
  ServiceAccess,
  ServiceDetails,
  ServiceList,
  ServiceSummary,
  Session,
  SourceList,
  SourceSummary,
  SwitchInfo,
  WorkspaceInfo,
} from './contracts';

import { exactly } from './statement';

export type * from './contracts';

/** The address of a service on the OData face; empty = it does not stand there. */
/** The address of a service on the plain REST face; empty = it does not stand there. */
export const restOf = (service: { faces: Record<string, string> }): string => service.faces.rest ?? '';

export const odataOf = (service: { faces: Record<string, string> }): string => service.faces.odata ?? '';

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
  /** Of a problem of plain REST. */
  detail?: string;
  excerpt?: string;
  error?: { message?: string; target?: string; details?: { code: string; message: string; target?: string }[] };
}

async function refusal(response: Response): Promise<RequestError> {
  const body = (await response.json().catch(() => ({}))) as ErrorBody;
  const pointer = body.excerpt ?? body.error?.details?.find((detail) => detail.code === 'position')?.message;
  return new RequestError(
    response.status,
    body.error?.message ?? body.detail ?? `The service answered ${response.status} without a message.`,
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

const initOf = (method: string, body?: unknown): RequestInit => ({
  method,
  headers: body === undefined ? own : { ...own, 'Content-Type': 'application/json' },
  body: body === undefined ? undefined : JSON.stringify(body),
});

/** Asks the management interface. */
export async function send(method: string, url: string, body?: unknown): Promise<Response> {
  return ask(url, initOf(method, body));
}

/** The same, whose refusals are looked at by the caller. */
export async function sendPlain(
  method: string,
  url: string,
  body?: unknown,
  more?: { headers: Record<string, string>; signal: AbortSignal },
): Promise<Response> {
  const init = initOf(method, body);
  try {
    return await fetch(url, { ...init, signal: more?.signal, headers: { ...init.headers, ...more?.headers } });
  } catch {
    throw new RequestError(0, 'The service does not answer. Is it still running?');
  }
}

export async function fetchPublishing(): Promise<PublishingState> {
  return (await ask('/manage/publishing')).json();
}

/** What publishing the files would do. */
export async function fetchReview(): Promise<DraftReview> {
  return (await ask('/manage/publishing/review')).json();
}

export async function publish(body: {
  message: string;
  allowBreaking: boolean;
  allowOpened: boolean;
  basedOn: number;
}): Promise<void> {
  await send('POST', '/manage/publishing', body);
}

/** What differs between two revisions, for consumers and callers. */
export async function fetchDifference(from: number, to: number): Promise<RevisionDifference> {
  return (await ask(`/manage/publishing/difference?from=${from}&to=${to}`)).json();
}

/** Publishes a former revision once more. */
export async function goBack(number: number, isAgreed: boolean): Promise<void> {
  await send('POST', '/manage/publishing', {
    message: `Back to revision ${number}`,
    backTo: number,
    allowBreaking: isAgreed,
    allowOpened: isAgreed,
  });
}

/** The requests that the workspace keeps. */
export async function fetchRequests(): Promise<KeptRequestInfo[]> {
  return (await ask('/manage/requests')).json();
}

/** Sends kept requests, each as its caller or all as one. */
export async function tryRequests(body: {
  names: string[];
  as?: string;
  writes: boolean;
  /** What they change stays; else it is undone. */
  real?: boolean;
}): Promise<KeptRequestOutcome[]> {
  return (await send('POST', '/manage/requests/try', body)).json();
}

/** Keeps the answer of a request beside it. */
export async function keepExample(body: { name: string; madeUp: boolean }): Promise<KeptExampleFile> {
  return (await send('POST', '/manage/requests/keep', body)).json();
}

export async function switchOff(body: {
  service: string;
  face?: string;
  group?: string;
  set?: string;
  message?: string;
  retryAfter: number;
  isAbsent: boolean;
}): Promise<void> {
  await send('POST', '/manage/switches/off', body);
}

export async function switchOn({ service, face, group, set }: SwitchInfo): Promise<void> {
  await send('POST', '/manage/switches/on', { service, face, group, set });
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

export async function fetchAccounts(): Promise<Accounts> {
  return (await ask('/manage/accounts')).json();
}

export async function setUser(user: AccountBody): Promise<void> {
  await (await send('POST', '/manage/accounts/users', user)).text();
}

export async function makeKey(key: AccountBody): Promise<MadeKey> {
  return (await send('POST', '/manage/accounts/keys', key)).json();
}

export async function removeUser(name: string): Promise<void> {
  await (await send('DELETE', `/manage/accounts/users/${encodeURIComponent(name)}`)).text();
}

export async function revokeKey(id: string): Promise<void> {
  await (await send('DELETE', `/manage/accounts/keys/${encodeURIComponent(id)}`)).text();
}

/** The names of the secrets; their values are never told. */
export async function fetchSecrets(): Promise<SecretInfo[]> {
  return (await ask('/manage/secrets')).json();
}

export async function setSecret(name: string, value: string): Promise<void> {
  await send('PUT', `/manage/secrets/${encodeURIComponent(name)}`, { value });
}

export async function removeSecret(name: string): Promise<void> {
  await send('DELETE', `/manage/secrets/${encodeURIComponent(name)}`);
}

export async function fetchAccess(service: string): Promise<AccessCell[]> {
  const answer: ServiceAccess = await (await ask(`/manage/services/${encodeURIComponent(service)}/access`)).json();
  return answer.access;
}

/** Somebody whose eyes are borrowed: a user, or roles with attributes; anonymous when both are missing. */
export interface Viewer {
  user?: string;
  roles?: string;
  attributes?: string;
}

function viewerOptions(viewer: Viewer): string {
  return (['user', 'roles', 'attributes'] as const)
    .flatMap((name) => (viewer[name] === undefined ? [] : [`&${name}=${encodeURIComponent(viewer[name])}`]))
    .join('');
}

/** Where a read is answered as somebody else would be answered; the answer is a `SeenAnswer`. */
export function viewUrl(url: string, viewer: Viewer, accept?: string): string {
  const format = accept === undefined ? '' : `&accept=${encodeURIComponent(accept)}`;
  return `/manage/view?url=${encodeURIComponent(url)}${viewerOptions(viewer)}${format}`;
}

export async function viewAs(url: string, viewer: Viewer): Promise<SeenAnswer> {
  return (await ask(viewUrl(url, viewer))).json();
}

/** What the rules do to a request, also to one that is refused. */
export async function fetchRuleEffects(url: string, viewer: Viewer): Promise<RuleEffect[]> {
  const response = await fetch(`/manage/explain?url=${encodeURIComponent(url)}${viewerOptions(viewer)}`);
  return ((await response.json().catch(() => ({}))) as Partial<RefusedRequest>).rules ?? [];
}

export async function fetchAudit(event: string | null): Promise<AuditPage> {
  return (await ask(`/manage/audit?count=200${event ? `&event=${event}` : ''}`)).json();
}

export async function fetchWorkspace(): Promise<WorkspaceInfo> {
  return (await ask('/manage/workspace')).json();
}

export async function fetchServices(): Promise<ServiceSummary[]> {
  const answer: ServiceList = await (await ask('/manage/services')).json();
  return answer.services;
}

export async function fetchService(name: string): Promise<ServiceDetails> {
  return (await ask(`/manage/services/${encodeURIComponent(name)}`)).json();
}

export async function fetchSources(): Promise<SourceSummary[]> {
  const answer: SourceList = await (await ask('/manage/sources')).json();
  return answer.sources;
}

export async function fetchObject(source: string, name: string): Promise<ObjectDetails> {
  return (await ask(`/manage/sources/${encodeURIComponent(source)}/object?name=${encodeURIComponent(name)}`)).json();
}

/** A document that describes a service; JSON with a line for each member. */
export async function fetchDocument(url: string, isXml: boolean): Promise<string> {
  if (isXml) return (await ask(url, { headers: { Accept: 'application/xml' } })).text();
  const response = await ask(url, { headers: { Accept: 'application/json' } });
  return JSON.stringify(exactly(await response.text()), null, 2);
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
  const body = text === '' ? { value: [] } : JSON.parse(text);
  return {
    rows: rowsOf(body),
    count: body['@count'],
    nextLink: body['@nextLink'],
    milliseconds,
    bytes: new Blob([text]).size,
  };
}

/** The rows of a list; one row, or one value, is a list of one. */
function rowsOf(body: Record<string, unknown>): Record<string, unknown>[] {
  if (Array.isArray(body.value)) return body.value as Record<string, unknown>[];
  return [Object.fromEntries(Object.entries(body).filter(([name]) => !name.startsWith('@')))];
}

/** The statements behind a request, with how the engine means to run them. */
export async function fetchStatements(url: string): Promise<ExplainedAnswer> {
  return (await ask(`/manage/explain?run=true&url=${encodeURIComponent(url)}`)).json();
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

/** What the call of an action gave. */
export interface CallResult {
  /** Several rows, or one; empty when it gave nothing. */
  rows: Entity[];
  milliseconds: number;
}

export async function callAction(url: string, values: Entity): Promise<CallResult> {
  const start = performance.now();
  const headers = { 'Content-Type': exactJson, 'OData-MaxVersion': '4.01' };
  const response = await askService(url, { method: 'POST', headers, body: JSON.stringify(values) });
  const answer = response.status === 204 ? undefined : await response.json();
  const rows = Array.isArray(answer?.value) ? answer.value : answer ? [answer] : [];
  return { rows, milliseconds: performance.now() - start };
}

/** A column of what a statement gives. */
export interface StatementColumn {
  name: string;
  type: string;
  nullable: boolean;
  description?: string;
  unit?: string;
}

/** What a statement over sets gave. */
export interface StatementResult {
  columns: StatementColumn[];
  rows: Entity[];
  milliseconds: number;
}

/** Sends a SELECT over the sets of a service; parameters take the type of what they meet. */
export async function sendStatement(
  url: string,
  statement: string,
  parameters: Record<string, string>,
): Promise<StatementResult> {
  const start = performance.now();
  const headers = { 'Content-Type': 'application/json', Accept: 'application/json' };
  const body = JSON.stringify({ statement, parameters });
  const response = await askService(url, { method: 'POST', headers, body });
  const answer = exactly(await response.text()) as Omit<StatementResult, 'milliseconds'>;
  return { ...answer, milliseconds: performance.now() - start };
}

export async function fetchRows(url: string): Promise<Entity[]> {
  return (await (await askService(url)).json()).value;
}

/** A single value; null when there is none. */
export async function fetchValue(url: string): Promise<string | null> {
  const response = await askService(url);
  return response.status === 204 ? null : String((await response.json()).value);
}
