import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete';
import type { Schema } from '../../api/draft';

/** The keys that lead to a line of block YAML, the outermost first; items of lists are no keys. */
export function pathTo(lines: string[], at: number): string[] {
  const path: string[] = [];
  let indent = indentOf(lines[at] ?? '');
  for (let line = at - 1; line >= 0 && indent > 0; line--) {
    const text = lines[line] ?? '';
    if (text.trim() === '' || text.trim().startsWith('#')) continue;
    const depth = indentOf(text);
    const key = /^\s*(?:- )?"?([\w -]+?)"?:(?:\s|$)/.exec(text)?.[1];
    // The first entry of an item stands beside its dash, and leads to nothing below it but its own value.
    if (depth >= indent || key === undefined) continue;
    path.unshift(key);
    indent = depth;
  }
  return path;
}

/** Where the first key of a line stands: behind the dash of an item. */
function indentOf(text: string): number {
  const item = /^(\s*)(- +)?/.exec(text);
  return (item?.[1]?.length ?? 0) + (item?.[2]?.length ?? 0);
}

/** All forms that a schema allows at once. */
function* formsOf(schema: Schema | undefined, root: Schema): Generator<Schema> {
  if (!schema) return;
  const named = schema.$ref?.split('/').at(-1);
  if (named) yield* formsOf(root.$defs?.[named], root);
  yield schema;
  for (const form of [...(schema.anyOf ?? []), ...(schema.oneOf ?? [])]) yield* formsOf(form, root);
  if (schema.items) yield* formsOf(schema.items, root);
}

/** What may stand at the end of a path. */
export function schemasAt(root: Schema, path: string[]): Schema[] {
  let here = [...formsOf(root, root)];
  for (const key of path)
    here = here.flatMap((schema) => {
      const next =
        schema.properties?.[key] ??
        (typeof schema.additionalProperties === 'object' ? schema.additionalProperties : undefined);
      return [...formsOf(next, root)];
    });
  return here;
}

/** Completes keys and listed values by the schema of a file, and names of tables and columns by what is given. */
export function completer(root: Schema | undefined, names: string[]) {
  return (context: CompletionContext): CompletionResult | null => {
    if (!root) return null;
    const line = context.state.doc.lineAt(context.pos);
    const lines = context.state.doc.toString().split('\n');
    const before = line.text.slice(0, context.pos - line.from);
    const word = /[\w-]*$/.exec(before)?.[0] ?? '';
    if (!context.explicit && word === '') return null;
    const path = pathTo(lines, line.number - 1);
    const value = /^\s*(?:- )?"?([\w -]+?)"?:\s+.*$/.exec(before);
    const schemas = schemasAt(root, value?.[1] ? [...path, value[1]] : path);
    const options: Completion[] = value
      ? [
          ...schemas.flatMap((schema) => schema.enum ?? []).map((one) => ({ label: String(one), type: 'enum' })),
          ...names.map((name) => ({ label: name, type: 'variable' })),
        ]
      : schemas.flatMap((schema) =>
          Object.entries(schema.properties ?? {}).map(([key, one]) => ({
            label: key,
            type: 'property',
            info: one.description,
            apply: `${key}: `,
          })),
        );
    const seen = new Set<string>();
    return {
      from: context.pos - word.length,
      options: options.filter((option) => !seen.has(option.label) && seen.add(option.label)),
      validFor: /^[\w-]*$/,
    };
  };
}
