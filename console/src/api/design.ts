// The design of a service: its declaration beside what becomes of it.

import { send } from './client';
import type { DesignAnswer, DesignRows, KeysAnswer } from './contracts';

/** A change of a design; a missing value removes what is there. */
export interface Change {
  /** The place of the set in the file; missing = the service itself. */
  set?: number;
  path: (string | number)[];
  value?: unknown;
}

/** What a text means after some changes, and what is wrong with it. */
export async function fetchDesign(service: string, text?: string, changes: Change[] = []): Promise<DesignAnswer> {
  return (await send('POST', '/manage/draft/design', { service, text, changes })).json();
}

/** The first rows of a set as a caller would get them. */
export async function fetchDesignRows(service: string, text: string, set: string, as?: string): Promise<DesignRows> {
  return (await send('POST', '/manage/draft/rows', { service, text, set, as })).json();
}

/** The columns that identify the rows of a table or view, proved over all rows. */
export async function fetchKeys(source: string, name: string): Promise<KeysAnswer> {
  const query = new URLSearchParams({ name });
  return (await send('GET', `/manage/sources/${encodeURIComponent(source)}/keys?${query}`)).json();
}
