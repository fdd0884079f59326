import { expect, it } from 'vitest';
import { completionsOf } from './ConditionInput';

const names = ['region', 'report', '@region'];

it.each([
  ['re', ['region', 'report']],
  ['region eq @', ['region eq @region']],
  ['region e', ['region eq', 'region endswith(']],
  ["name eq 'no", []],
  ['', []],
  ['region ', []],
  ['REG', ['region']],
])('“%s”', (text, found) => expect(completionsOf(text, names)).toEqual(found));
