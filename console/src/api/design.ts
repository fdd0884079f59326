// The design of a service: its declaration beside what becomes of it.

import { send } from './client';
import type { DesignAnswer, DesignRows } from './contracts';

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

/** The first rows of a set, or of a query with values, as a caller would get them. */
export async function fetchDesignRows(
  service: string,
  text: string,
  set: string,
  as?: string,
  values?: Record<string, string>,
): Promise<DesignRows> {
  return (await send('POST', '/manage/draft/rows', { service, text, set, as, values })).json();
}
