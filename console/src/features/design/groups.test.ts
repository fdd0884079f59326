import { expect, it } from 'vitest';
import { groupChanges } from './groups';

const written = { group: { position: { type: 'Position', columns: ['lat', 'lon'] }, size: ['width'] } };
const set = { index: 3, written };

it.each([
  [{ column: 'height' }, 'size', [{ set: 3, path: ['group', 'size'], value: ['width', 'height'] }]],
  [
    { column: 'height' },
    'position',
    [{ set: 3, path: ['group', 'position', 'columns'], value: ['lat', 'lon', 'height'] }],
  ],
  [{ column: 'name' }, 'label', [{ set: 3, path: ['group', 'label'], value: { type: 'Label', columns: ['name'] } }]],
  [{ column: 'lat', group: 'position' }, '', [{ set: 3, path: ['group', 'position', 'columns'], value: ['lon'] }]],
  [{ column: 'width', group: 'size' }, '', [{ set: 3, path: ['group', 'size'] }]],
  [
    { column: 'width', group: 'size' },
    'position',
    [
      { set: 3, path: ['group', 'size'] },
      { set: 3, path: ['group', 'position', 'columns'], value: ['lat', 'lon', 'width'] },
    ],
  ],
  [{ column: 'name' }, '', []],
])('%j into “%s”', (column, group, changes) => expect(groupChanges(set, column, group)).toEqual(changes));

it('the last group goes with its last column', () => {
  const one = { index: 0, written: { group: { size: { type: 'Size', columns: ['width'] } } } };
  expect(groupChanges(one, { column: 'width', group: 'size' }, '')).toEqual([{ set: 0, path: ['group'] }]);
});
