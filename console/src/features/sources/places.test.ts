import { expect, it } from 'vitest';
import { depthsOf, placesOf } from './places';

const tie = (from: string, to: string) => ({ from, to, columns: ['x'], targetColumns: ['id'] });
const object = (name: string) => ({ name, kind: 'table', key: [], columns: ['id', 'x'], isPublished: false });

it('what refers stands behind what it refers to', () => {
  const depths = depthsOf(['reading', 'sensor', 'station'], [tie('reading', 'sensor'), tie('sensor', 'station')]);
  expect(Object.fromEntries(depths)).toEqual({ station: 0, sensor: 1, reading: 2 });
});

it('rings and references to itself end', () => {
  const depths = depthsOf(['a', 'b', 'c'], [tie('a', 'b'), tie('b', 'a'), tie('c', 'c')]);
  expect([...depths.values()].every((depth) => depth < 3)).toBe(true);
});

it('no two objects stand at one place', () => {
  const objects = ['a', 'b', 'c', 'd'].map(object);
  const places = placesOf({ objects, ties: [tie('b', 'a'), tie('c', 'a')], isCut: false });
  expect(new Set([...places.values()].map(({ x, y }) => `${x} ${y}`)).size).toBe(4);
});
