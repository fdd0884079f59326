import { expect, it } from 'vitest';
import { ago, countsOf, durationOf, sizeOf } from './figures';

it.each([
  [0.25, '0.3 ms'],
  [12.4, '12 ms'],
  [2_340, '2.3 s'],
])('%d ms reads %s', (milliseconds, text) => expect(durationOf(milliseconds)).toBe(text));

it.each([
  ['2026-05-01T11:59:58Z', 'just now'],
  ['2026-05-01T11:59:20Z', '40 s ago'],
  ['2026-05-01T11:40:00Z', '20 min ago'],
  ['2026-05-01T08:00:00Z', '4 h ago'],
  ['2026-04-20T08:00:00Z', '2026-04-20'],
  ['2026-05-01T12:00:09Z', 'just now'],
])('%s was %s', (time, text) => expect(ago(time, '2026-05-01T12:00:00Z')).toBe(text));

it.each([
  [0, '0 bytes'],
  [1023, '1023 bytes'],
  [1536, '1.5 KiB'],
  [52_428_800, '50 MiB'],
])('%d bytes read %s', (bytes, text) => expect(sizeOf(bytes)).toBe(text));

it('minutes are added', () => {
  const minute = { requests: 2, refused: 1, failed: 0, milliseconds: 3 };
  expect(countsOf([minute, minute])).toEqual({ requests: 4, refused: 2, failed: 0, milliseconds: 6 });
  expect(countsOf([])).toEqual({ requests: 0, refused: 0, failed: 0, milliseconds: 0 });
});
