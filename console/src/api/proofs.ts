// What the rows say of a draft.

import type { ColumnLookInfo, ConditionCount, DoubledKeysInfo, KeysAnswer, OrphansInfo } from './contracts';
import { withProgress } from './progress';

type Tell = (progress: string) => void;

/** A set of a service's file as it is being changed. */
export interface EditedSet {
  service: string;
  text: string;
  /** The place of the set in the file. */
  set: number;
}

/** Reads a column of all rows: the types that its values fit, and those that break its rules. */
export function lookAtColumn(edited: EditedSet, column: string, tell: Tell, signal: AbortSignal) {
  return withProgress<ColumnLookInfo>('POST', '/manage/draft/column', { ...edited, column }, tell, signal);
}

/** Counts the rows of a relation that refer to nothing. */
export function countOrphans(edited: EditedSet, relation: string, tell: Tell, signal: AbortSignal) {
  return withProgress<OrphansInfo>('POST', '/manage/draft/orphans', { ...edited, relation }, tell, signal);
}

/** Counts the rows that do not fulfil a condition. */
export function countBroken(edited: EditedSet, condition: string, tell: Tell, signal: AbortSignal) {
  return withProgress<ConditionCount>('POST', '/manage/draft/condition', { ...edited, condition }, tell, signal);
}

const below = (source: string) => `/manage/sources/${encodeURIComponent(source)}`;

/** The columns that identify the rows of a table or view, proved over all rows. */
export function findKeys(source: string, name: string, tell: Tell, signal: AbortSignal) {
  return withProgress<KeysAnswer>(
    'GET',
    `${below(source)}/keys?${new URLSearchParams({ name })}`,
    undefined,
    tell,
    signal,
  );
}

/** Rows that share the values of some columns. */
export function findDoubled(source: string, name: string, columns: string[], tell: Tell, signal: AbortSignal) {
  const query = new URLSearchParams([['name', name], ...columns.map((column) => ['column', column])]);
  return withProgress<DoubledKeysInfo>('GET', `${below(source)}/duplicates?${query}`, undefined, tell, signal);
}
