import { describe, expect, it } from 'vitest';
import { differenceOf } from './difference';

const shown = (before: string, after: string) =>
  differenceOf(before, after).map((line) => ({ same: ' ', gone: '-', new: '+' })[line.kind] + line.text);

describe('differenceOf', () => {
  it.each([
    ['a\nb\nc', 'a\nb\nc', []],
    ['a\nb\nc', 'a\nx\nc', [' a', '-b', '+x', ' c']],
    ['a\nb', 'a\nb\nc', [' a', ' b', '+c']],
    ['', 'a', ['-', '+a']],
    ['1\n2\n3\n4\n5\n6', '1\n2\n3\n4\nx\n6', [' 3', ' 4', '-5', '+x', ' 6']],
    ['a\nb\nc\nd', 'a\nB\nc\nD', [' a', '-b', '+B', ' c', '-d', '+D']],
  ])('%j and %j', (before, after, lines) => {
    expect(shown(before, after)).toEqual(lines);
  });
});
