import { describe, expect, it } from 'vitest';
import { exactly, parametersOf } from './statement';

describe('the parameters of a statement', () => {
  it.each([
    ['SELECT 1', []],
    ['SELECT a FROM b WHERE c = :c AND d > :day2 OR c = :c', ['c', 'day2']],
    ['SELECT \':x\', ":y" FROM b -- :z\n WHERE /* :u */ c = :größe', ['größe']],
    ["SELECT 'it''s :x' FROM b", []],
    ['SELECT a::b', ['b']],
  ])('%s', (statement, names) => expect(parametersOf(statement)).toEqual(names));
});

describe('numbers', () => {
  it('stay as they are, where the browser tells their text', () => {
    expect(exactly('{"a":1,"b":"2","c":null}')).toEqual({ a: 1, b: '2', c: null });
  });
});
