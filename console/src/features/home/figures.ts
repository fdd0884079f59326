// Numbers as people read them.

interface Counted {
  requests: number;
  refused: number;
  failed: number;
  milliseconds: number;
}

/** All minutes together. */
export function countsOf(minutes: Counted[]): Counted {
  return minutes.reduce<Counted>(
    (sum, minute) => ({
      requests: sum.requests + minute.requests,
      refused: sum.refused + minute.refused,
      failed: sum.failed + minute.failed,
      milliseconds: sum.milliseconds + minute.milliseconds,
    }),
    { requests: 0, refused: 0, failed: 0, milliseconds: 0 },
  );
}

/** A duration, from milliseconds. */
export function durationOf(milliseconds: number): string {
  if (milliseconds < 10) return `${milliseconds.toFixed(1)} ms`;
  if (milliseconds < 1_000) return `${Math.round(milliseconds)} ms`;
  return `${(milliseconds / 1_000).toFixed(1)} s`;
}

/** How long ago something was, by the clock of the service. */
export function ago(time: string, now: string): string {
  const seconds = Math.max(0, Math.round((Date.parse(now) - Date.parse(time)) / 1_000));
  if (seconds < 10) return 'just now';
  if (seconds < 60) return `${seconds} s ago`;
  if (seconds < 3_600) return `${Math.round(seconds / 60)} min ago`;
  if (seconds < 86_400) return `${Math.round(seconds / 3_600)} h ago`;
  return time.slice(0, 10);
}

/** Bytes in the unit that reads best. */
export function sizeOf(bytes: number): string {
  if (bytes < 1024) return `${bytes} bytes`;
  const units = ['KiB', 'MiB', 'GiB', 'TiB'];
  const power = Math.min(units.length, Math.floor(Math.log(bytes) / Math.log(1024)));
  const value = bytes / 1024 ** power;
  return `${value < 10 ? value.toFixed(1) : Math.round(value)} ${units[power - 1] ?? ''}`;
}
