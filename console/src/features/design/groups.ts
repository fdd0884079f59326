import type { ColumnDesignInfo, SetDesignInfo } from '../../api/client';
import type { Change } from '../../api/design';
import { listAt, valueAt } from './words';

type OfSet = Pick<SetDesignInfo, 'index' | 'written'>;

/** Takes a column out of the complex value that holds it, and puts it into another; '' = it stands by itself. */
export function groupChanges(set: OfSet, column: Pick<ColumnDesignInfo, 'column' | 'group'>, group: string): Change[] {
  const changes: Change[] = [];
  const groups = Object.keys((valueAt(set.written, 'group') ?? {}) as object);
  if (column.group) {
    const rest = columnsOf(set, column.group).filter((one) => one !== column.column);
    if (rest.length > 0) changes.push({ set: set.index, path: placeOf(set, column.group), value: rest });
    else
      changes.push({
        set: set.index,
        path: groups.length === 1 && group === '' ? ['group'] : ['group', column.group],
      });
  }
  if (group)
    changes.push(
      groups.includes(group) && group !== column.group
        ? { set: set.index, path: placeOf(set, group), value: [...columnsOf(set, group), column.column] }
        : { set: set.index, path: ['group', group], value: { type: typeOf(group), columns: [column.column] } },
    );
  return changes;
}

function columnsOf(set: OfSet, group: string): string[] {
  return [...listAt(set.written, 'group', group), ...listAt(set.written, 'group', group, 'columns')];
}

/** Where the columns of a group stand: it may be a list of them, or say more. */
function placeOf(set: OfSet, group: string): string[] {
  return Array.isArray(valueAt(set.written, 'group', group)) ? ['group', group] : ['group', group, 'columns'];
}

function typeOf(name: string): string {
  return name.charAt(0).toUpperCase() + name.slice(1);
}
