// The draft: the workspace's files, read and written through the management interface.

import { RequestError, send, sendPlain } from './client';
import type {
  CheckFinding,
  ChosenObjects,
  ConnectAnswer,
  DatabaseFiles,
  DraftConflict,
  DraftFiles,
  DraftText,
} from './contracts';

/** A change of a single value; a missing value removes what is there. */
export interface Edit {
  path: (string | number)[];
  value?: unknown;
}

/** Somebody else wrote the file in the meantime. */
export class ConflictError extends Error {
  constructor(
    message: string,
    /** The file as it is now; missing = it is gone. */
    readonly current?: DraftText,
  ) {
    super(message);
  }
}

export async function fetchDraft(): Promise<DraftFiles> {
  return (await send('GET', '/manage/draft')).json();
}

export async function fetchDraftText(file: string): Promise<DraftText> {
  return (await send('GET', `/manage/draft/text?file=${encodeURIComponent(file)}`)).json();
}

export async function fetchSchema(kind: string): Promise<Schema> {
  return (await send('GET', `/manage/draft/schema/${kind}`)).json();
}

async function settle(response: Response): Promise<Response> {
  if (response.status === 409) {
    const { error, current } = (await response.json()) as DraftConflict;
    throw new ConflictError(error.message, current);
  }
  if (!response.ok) {
    const body = (await response.json().catch(() => ({}))) as { error?: { message?: string } };
    throw new RequestError(response.status, body.error?.message ?? response.statusText);
  }
  return response;
}

/** Writes a file as a whole, if it is still the version that was changed. */
export async function writeDraft(file: string, text: string, version: string | undefined): Promise<DraftText> {
  return (await settle(await sendPlain('PUT', '/manage/draft/text', { file, text, version }))).json();
}

export async function removeDraft(file: string, version: string): Promise<void> {
  const query = new URLSearchParams({ file, version });
  await settle(await sendPlain('DELETE', `/manage/draft/text?${query}`));
}

/** A text with single values changed, and all else as it is. */
export async function editText(text: string, edits: Edit[]): Promise<string> {
  const answer = (await (await send('POST', '/manage/draft/edit', { text, edits })).json()) as { text: string };
  return answer.text;
}

/** What is wrong with texts that are not written yet. */
export async function checkTexts(texts: Record<string, string | null>): Promise<CheckFinding[]> {
  return (await send('POST', '/manage/draft/check', { texts })).json();
}

/** The file of a service with sets for more tables and views; also for everything that they refer to. */
export async function chooseObjects(
  service: string,
  source: string,
  objects: string[],
  withReferred = false,
): Promise<ChosenObjects> {
  return (await send('POST', '/manage/draft/choose', { service, source, objects, withReferred })).json();
}

/** As much of JSON Schema as completion needs. */
export interface Schema {
  description?: string;
  type?: string | string[];
  enum?: unknown[];
  properties?: Record<string, Schema>;
  additionalProperties?: Schema | boolean;
  items?: Schema;
  anyOf?: Schema[];
  oneOf?: Schema[];
  $ref?: string;
  $defs?: Record<string, Schema>;
}

/** Database files in the workspace's folder, and whether secrets can be kept. */
export async function fetchDatabases(): Promise<DatabaseFiles> {
  return (await send('GET', '/manage/draft/databases')).json();
}

/** Connects to the database of a source file that is not written yet. */
export async function connectSource(
  name: string,
  text: string,
  secrets: Record<string, string>,
): Promise<ConnectAnswer> {
  return (await send('POST', '/manage/draft/connect', { name, text, secrets })).json();
}
