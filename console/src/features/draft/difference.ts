export interface DifferentLine {
  kind: 'same' | 'gone' | 'new';
  text: string;
}

/** How many lines around a difference are shown. */
const around = 2;

/** The lines in which two texts differ, with some lines around them; what stands between is left out. */
export function differenceOf(before: string, after: string): DifferentLine[] {
  const [old, now] = [before.split('\n'), after.split('\n')];
  let start = 0;
  while (start < old.length && start < now.length && old[start] === now[start]) start++;
  let end = 0;
  while (
    end < old.length - start &&
    end < now.length - start &&
    old[old.length - 1 - end] === now[now.length - 1 - end]
  )
    end++;
  const middle = compare(old.slice(start, old.length - end), now.slice(start, now.length - end));
  if (middle.length === 0) return [];
  const same = (text: string): DifferentLine => ({ kind: 'same', text });
  return [
    ...old.slice(Math.max(0, start - around), start).map(same),
    ...middle,
    ...old.slice(old.length - end, old.length - end + around).map(same),
  ];
}

/** The longest lines in common stay; beyond a size that takes too long, all is told as replaced. */
function compare(old: string[], now: string[]): DifferentLine[] {
  const gone = (text: string): DifferentLine => ({ kind: 'gone', text });
  const fresh = (text: string): DifferentLine => ({ kind: 'new', text });
  if (old.length * now.length > 1_000_000) return [...old.map(gone), ...now.map(fresh)];
  // lengths[i][j] = lines in common from i and j on
  const lengths = Array.from({ length: old.length + 1 }, () => new Array<number>(now.length + 1).fill(0));
  const at = (i: number, j: number) => lengths[i]?.[j] ?? 0;
  for (let i = old.length - 1; i >= 0; i--)
    for (let j = now.length - 1; j >= 0; j--) {
      const row = lengths[i];
      if (row) row[j] = old[i] === now[j] ? at(i + 1, j + 1) + 1 : Math.max(at(i + 1, j), at(i, j + 1));
    }
  const lines: DifferentLine[] = [];
  let [i, j] = [0, 0];
  while (i < old.length || j < now.length) {
    const [left, right] = [old[i], now[j]];
    if (left !== undefined && left === right) {
      lines.push({ kind: 'same', text: left });
      i++;
      j++;
    } else if (left !== undefined && (right === undefined || at(i + 1, j) >= at(i, j + 1))) {
      lines.push(gone(left));
      i++;
    } else if (right !== undefined) {
      lines.push(fresh(right));
      j++;
    }
  }
  return lines;
}
