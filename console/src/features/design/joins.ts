/** A column of a set, and the one of the other set that it is compared with. */
export interface Join {
  own: string;
  target: string;
}

/** The joins of a relation in their shortest form: those that lead to the other set's key need its columns not. */
export function joinsAsWritten(joins: Join[], key: string[]): string | string[] | Record<string, string> {
  const leadsToKey = joins.length === key.length && joins.every((join, at) => join.target === key[at]);
  if (!leadsToKey) return Object.fromEntries(joins.map((join) => [join.own, join.target]));
  const [only] = joins;
  return joins.length === 1 && only ? only.own : joins.map((join) => join.own);
}
