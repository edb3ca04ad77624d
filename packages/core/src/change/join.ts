import { rowKey } from '../schema/row-key.ts';
import type { Schema } from '../schema/schema.ts';
import { tableOf } from '../schema/schema.ts';
import { type Change, joinChanges } from './change.ts';

/**
 * Consecutive transactions as one: of each row only the latest state is left, at the place of its first change. A row that
 * is deleted and made anew keeps both changes. A row that is new and gone again leaves nothing.
 */
export function joinTransactions(schema: Schema, transactions: readonly (readonly Change[])[]): Change[] {
  const rows = new Map<string, Change[]>();
  for (const changes of transactions)
    for (const change of changes) {
      const key = rowKey(change);
      const joined = rows.get(key);
      if (joined === undefined) rows.set(key, [change]);
      else joinInto(schema, joined, change);
    }
  return [...rows.values()].flat();
}

function joinInto(schema: Schema, joined: Change[], change: Change): void {
  const before = joined.at(-1);
  if (before === undefined || (before.kind === 'delete' && change.kind === 'insert')) joined.push(change);
  else if (before.kind === 'insert' && change.kind === 'delete') joined.pop();
  else joined[joined.length - 1] = joinChanges(tableOf(schema, change.table), before, change);
}
