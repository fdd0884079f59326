import type { ObjectSummary } from '../../api/client';

/** Whether an object is sought: a part of its name or of a column's, or with * and ? a pattern that its whole name fits. */
export function matches(object: Pick<ObjectSummary, 'name' | 'columns'>, sought: string): boolean {
  const wanted = sought.trim().toLowerCase();
  if (!wanted) return true;
  if (/[*?]/.test(wanted)) return patternOf(wanted).test(object.name);
  return [object.name, ...object.columns].some((name) => name.toLowerCase().includes(wanted));
}

function patternOf(text: string): RegExp {
  const escaped = text
    .replace(/[.+^${}()|[\]\\]/g, '\\$&')
    .replace(/\*/g, '.*')
    .replace(/\?/g, '.');
  return new RegExp(`^${escaped}$`, 'i');
}
