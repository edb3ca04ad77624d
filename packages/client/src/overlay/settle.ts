import {
  type AnyRow,
  type Change,
  columnsFromWire,
  joinChanges,
  mergeByRules,
  type PulledRow,
  sameValue,
  type Table,
  tableOf,
  wholeRow,
} from '@koinon/core';
import type { QueuedChange } from '../outbox/outbox.ts';
import { rewrite } from '../outbox/rewriting.ts';
import { type Move, type Overlay, type Shown, sidesOf } from './show.ts';

/** What a pull tells of a row that is still this user's. */
export type ChangedRow = Exclude<PulledRow, { readonly kind: 'leave' }>;

/** A move after the rules: the changes that are left, and what the row comes to. */
export interface Settled {
  readonly move: Move;
  readonly shown: Shown;
}

/**
 * Lets the rules of a table decide what they can about a row that the server sent and the device has changed as well.
 * What they take from the server leaves the outbox, what they make of both goes into it: the transactions this alters
 * get new ids and keep their places. Runs inside a transaction, while nothing of the row is under way.
 *
 * @param serverTime the server's clock when it answered, in milliseconds since 1970: no edit was made later.
 */
export function settleMove(overlay: Overlay, move: Move, pulled: ChangedRow, serverTime: number): Settled {
  const { schema, outbox, host } = overlay;
  const { tableName, id } = move;
  const table = tableOf(schema, tableName);
  const { expected, local, remote } = sidesOf(overlay, move);
  const unconfirmed = move.left.filter(({ state }) => state !== 'confirmed');
  const lastEdit = (column: string) =>
    Math.min(serverTime, unconfirmed.findLast(({ change }) => sets(change, column))?.editedAt ?? serverTime);
  const remoteEdit = (column: string) => {
    const time = pulled.times?.[column] ?? pulled.editedAt;
    return time === undefined ? undefined : Date.parse(time);
  };
  const image =
    pulled.kind === 'delete' && pulled.columns ? wholeRow(table, id, columnsFromWire(table, pulled.columns)) : null;
  const settlement = mergeByRules(table, expected, local, remote, { local: lastEdit, remote: remoteEdit }, image);
  const open = settlement.open.map((disagreement) => ({
    ...disagreement,
    localAt: disagreement.column === null ? unconfirmed.at(-1)?.editedAt : lastEdit(disagreement.column),
    remoteAt: disagreement.column === null ? remoteEdit('') : remoteEdit(disagreement.column),
    remoteBy: touches(pulled, disagreement.column) ? (pulled.editedBy ?? null) : undefined,
  }));
  // What is under way keeps its content; it comes back overtaken, and is settled then.
  if (unconfirmed.some(({ state }) => state === 'attempted')) return { move, shown: { row: settlement.row, open } };
  const rewritten = rewrittenChanges(table, unconfirmed, local, settlement.local, image ?? expected);
  if (rewritten.size === 0) return { move, shown: { row: settlement.row, open } };
  rewrite(outbox, tableName, id, rewritten, () => host.newId());
  const altered = new Map([...rewritten].filter(([, change]) => change !== undefined) as [number, Change][]);
  const left = move.left.flatMap((each): QueuedChange[] => {
    if (!rewritten.has(each.place)) return [each];
    const change = altered.get(each.place);
    return change ? [{ ...each, change, state: 'pending' }] : [];
  });
  return { move: { ...move, left }, shown: { row: settlement.row, open } };
}

/** Whether what came is about a column. */
function touches(pulled: ChangedRow, column: string | null): boolean {
  return pulled.kind === 'delete' || column === null || Object.hasOwn(pulled.columns, column);
}

function sets(change: Change, column: string): boolean {
  return change.kind !== 'delete' && Object.hasOwn(change.columns, column);
}

/**
 * What becomes of each of a row's changes, by place, so that together they come to what the rules left. Those that stay
 * as they are are left out: only a transaction whose content changes is another one.
 */
function rewrittenChanges(
  table: Table,
  changes: readonly QueuedChange[],
  before: Change | undefined,
  after: Change | undefined,
  image: AnyRow | null,
): ReadonlyMap<number, Change | undefined> {
  if (before === after || before === undefined) return new Map();
  if (after === undefined) return new Map(changes.map(({ place }) => [place, undefined]));
  if (before.kind === 'delete' || after.kind === 'delete') return new Map();
  const rewritten = new Map<number, Change | undefined>();
  changes.forEach(({ place, change }, i) => {
    if (change.kind === 'delete') return;
    const columns = Object.fromEntries(
      Object.entries(change.columns).flatMap(([name, value]) => {
        const isLast = !changes.slice(i + 1).some((later) => sets(later.change, name));
        if (!Object.hasOwn(after.columns, name)) return [];
        return [[name, isLast ? after.columns[name] : value]];
      }),
    );
    const { id } = change;
    const operations = change.kind === 'update' ? change.operations : {};
    if (i === 0 && after.kind === 'insert' && change.kind === 'update') {
      // The row is gone on the server: the first edit of it makes it anew, from what it held last.
      const { id: _, ...held } = image as AnyRow;
      rewritten.set(place, joinChanges(table, { ...change, kind: 'insert', columns: held }, { ...change, columns }));
      return;
    }
    const isNothing = Object.keys(columns).length === 0 && Object.keys(operations).length === 0;
    const turnsUpdate = change.kind === 'insert' && after.kind === 'update';
    if (isNothing) rewritten.set(place, undefined);
    else if (turnsUpdate) rewritten.set(place, { kind: 'update', table: change.table, id, columns, operations });
    else if (!sameValue(columns, change.columns)) rewritten.set(place, { ...change, columns });
  });
  return rewritten;
}
