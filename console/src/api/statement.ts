/** Comments, texts and quoted names, in which a colon starts no parameter; or a parameter. */
const parts = /--[^\n]*|\/\*[\s\S]*?\*\/|'(?:[^']|'')*'|"(?:[^"]|"")*"|:([\p{L}_][\p{L}\p{Nd}_]*)/gu;

/** The names of the parameters of a statement, each once, in their order. */
export function parametersOf(statement: string): string[] {
  return [...new Set([...statement.matchAll(parts)].flatMap((match) => (match[1] ? [match[1]] : [])))];
}

/** A JSON text whose numbers that a browser would round stay as they are written. */
export function exactly(text: string): unknown {
  const keep = (_: string, value: unknown, context?: { source?: string }) =>
    typeof value === 'number' && context?.source !== undefined && String(value) !== context.source
      ? context.source
      : value;
  return JSON.parse(text, keep as (this: unknown, key: string, value: unknown) => unknown);
}
