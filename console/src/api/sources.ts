// What the databases hold beyond the list of their objects.

import { send } from './client';
import type { ObjectExtentInfo, RawRows, RelatedObjects } from './contracts';

export interface RawQuestion {
  rows: number;
  skip: number;
  /** A column, with - before it the other way round; missing = as the database gives them. */
  sort?: string;
  /** A column whose values contain a text. */
  column?: string;
  contains?: string;
}

const below = (source: string) => `/manage/sources/${encodeURIComponent(source)}`;

export async function fetchRawRows(source: string, name: string, question: RawQuestion): Promise<RawRows> {
  const query = new URLSearchParams({ name, rows: String(question.rows), skip: String(question.skip) });
  if (question.sort) query.set('sort', question.sort);
  if (question.contains && question.column) {
    query.set('column', question.column);
    query.set('contains', question.contains);
  }
  return (await send('GET', `${below(source)}/rows?${query}`)).json();
}

/** How large an object is, and the SELECT of a view. */
export async function fetchExtent(source: string, name: string): Promise<ObjectExtentInfo> {
  return (await send('GET', `${below(source)}/extent?${new URLSearchParams({ name })}`)).json();
}

/** Objects with the foreign keys among them; with what is around them, too. */
export async function fetchRelated(source: string, names: string[], isAround: boolean): Promise<RelatedObjects> {
  const query = new URLSearchParams(names.map((name) => ['name', name]));
  query.set('around', String(isAround));
  return (await send('GET', `${below(source)}/related?${query}`)).json();
}
