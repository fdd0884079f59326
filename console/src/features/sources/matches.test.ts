import { expect, it } from 'vitest';
import { matches } from './matches';

const station = { name: 'station', columns: ['id', 'opened_on'] };

it.each([
  ['', true],
  ['STAT', true],
  ['opened', true],
  ['visit', false],
  ['sta*', true],
  ['*on', true],
  ['st?tion', true],
  ['tation*', false],
  ['opened*', false],
  ['s.*', false],
  ['(', false],
])('“%s” finds it: %s', (sought, isFound) => expect(matches(station, sought)).toBe(isFound));
