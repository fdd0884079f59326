// What a file says, as texts, lists and mappings.

/** The text at a place; '' = nothing is written there. */
export function textAt(written: unknown, ...path: string[]): string {
  const value = valueAt(written, ...path);
  return typeof value === 'string' ? value : '';
}

/** The texts of a list at a place; a single text is a list of one. */
export function listAt(written: unknown, ...path: string[]): string[] {
  const value = valueAt(written, ...path);
  if (typeof value === 'string') return [value];
  return Array.isArray(value) ? value.filter((item): item is string => typeof item === 'string') : [];
}

export function valueAt(written: unknown, ...path: string[]): unknown {
  return path.reduce<unknown>(
    (value, step) =>
      typeof value === 'object' && value !== null && !Array.isArray(value)
        ? (value as Record<string, unknown>)[step]
        : undefined,
    written,
  );
}

/** A text that may be a number, as a file writes it. */
export function numberOf(text: string): number | string {
  return /^-?\d+$/.test(text) ? Number(text) : text;
}
