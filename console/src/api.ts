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

/** A refusal or failure, with the place in the request where there is one. */
export class RequestError extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly pointer?: string,
  ) {
    super(message);
  }
}

interface ErrorBody {
  error?: { message?: string; details?: { code: string; message: string }[] };
}

async function refusal(response: Response): Promise<RequestError> {
  const body = (await response.json().catch(() => ({}))) as ErrorBody;
  const pointer = body.error?.details?.find((detail) => detail.code === 'position')?.message;
  return new RequestError(
    response.status,
    body.error?.message ?? `The service answered ${response.status} without a message.`,
    pointer,
  );
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
  const response = await ask(url, {
    headers: { Accept: 'application/json', Prefer: `maxpagesize=${pageSize}`, 'OData-MaxVersion': '4.01' },
  });
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
