import {
  type AnyRow,
  applyChange,
  type Change,
  changeFromWire,
  changeProblems,
  changeToWire,
  columnsFromWire,
  errorFromProblems,
  joinChanges,
  KoinonError,
  kept,
  sameValue,
  shown,
  type TrashedRow,
  tableOf,
  type WireChange,
} from '@koinon/core';
import type { Database } from '../database/database.ts';
import { clockOffset } from '../database/layout.ts';
import type { Outbox, QueuedChange } from '../outbox/outbox.ts';
import { replaceChanges, resend, rewrite } from '../outbox/rewriting.ts';
import type { Undoing } from '../outbox/undo.ts';
import { alreadySent, checkTouched, revertAll, revertRow, undoLast } from '../outbox/undo.ts';
import type { Decision } from '../replica/replica.ts';
import { showAnew } from './show.ts';

/** What a person decides about one column, or a whole row, in conflict. */
export type Choice = 'local' | 'remote' | { readonly value: unknown };

/** One choice for all that is in conflict, or a choice by column; columns without one stay in conflict. */
export type Choices = Choice | { readonly [column: string]: Choice };

/** What decisions work on. */
export interface Deciding extends Undoing {
  readonly database: Database;
}

/**
 * Settles a row's conflict as a person decides. What the device has done to the row becomes one change with the server's
 * row as its base, in the place of the last one, so that its transaction stays whole; it goes up with the next sync.
 * Runs inside a transaction.
 */
export function resolveRow(at: Deciding, tableName: string, id: string, choices: Choices): void {
  const table = tableOf(at.schema, tableName);
  const open = at.conflicts.basesOf(tableName, id);
  if (open.size === 0)
    throw new KoinonError('no-such-conflict', `${tableName} ${shown(id)} is not in conflict.`, {
      table: tableName,
      id,
    });
  const queued = at.outbox.changesOf(tableName, id);
  if (queued.some(({ state }) => state === 'attempted')) throw alreadySent(`The change of ${tableName} ${id}`);
  const unconfirmed = queued.filter(({ state }) => state !== 'confirmed');
  const local = unconfirmed.reduce<Change | undefined>(
    (joined, { change }) => joinChanges(table, joined, change),
    undefined,
  ) as Change;
  const remote = queued
    .filter(({ state }) => state === 'confirmed')
    .reduce((over, { change }) => applyChange(table, over, change), at.bases.get(tableName, id));

  const chosen = open.has(null)
    ? wholeRow(at, local, remote, choices)
    : byColumn(at, local, remote, choices, open as ReadonlyMap<string, unknown>);
  if (chosen.change) {
    const [first, ...rest] = changeProblems(table, chosen.change);
    if (first) throw errorFromProblems([first, ...rest]);
  }
  at.database
    .statement('INSERT INTO koinon_resolved VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING')
    .run(tableName, id, JSON.stringify(changeToWire(at.schema, local)), at.conflicts.take(tableName, id));
  replaceChanges(at.outbox, tableName, id, chosen.change, at.host);
  at.conflicts.keepOnly(tableName, id, chosen.left);
  showAnew(at, tableName, id);
  checkTouched(at, [{ table: tableName, id }]);
}

/**
 * Takes a decision back while it has not been sent and the server's row is still the one that was decided about: the
 * conflict is there again, with what the device had done. Runs inside a transaction.
 */
export function unresolveRow(at: Deciding, tableName: string, id: string): void {
  const found = at.database
    .statement('SELECT change, conflicts FROM koinon_resolved WHERE table_name = ? AND row_id = ?')
    .get(tableName, id) as { change: string; conflicts: string } | undefined;
  if (found === undefined)
    throw new KoinonError(
      'nothing-to-undo',
      `No decision about ${tableName} ${shown(id)} can be taken back: none was made, it was sent, or the row has changed since.`,
      { table: tableName, id },
    );
  const unconfirmed = at.outbox.changesOf(tableName, id).filter(({ state }) => state !== 'confirmed');
  if (unconfirmed.some(({ state }) => state === 'attempted')) throw alreadySent(`The change of ${tableName} ${id}`);
  const change = changeFromWire(at.schema, JSON.parse(found.change) as WireChange);
  if (unconfirmed.length > 0) replaceChanges(at.outbox, tableName, id, change, at.host);
  else {
    if (!at.outbox.hasChangesOf(tableName, id)) at.bases.set(tableName, id, at.rows.get(tableName, id));
    at.outbox.append({ id: at.host.newId(), editedAt: at.host.now() + clockOffset(at.database) }, change);
    // What it inserted is not what the row shows just now.
    const appended = at.outbox.changesOf(tableName, id).at(-1) as QueuedChange;
    rewrite(at.outbox, tableName, id, new Map([[appended.place, change]]), () => at.host.newId());
  }
  at.conflicts.keepOnly(tableName, id, []);
  at.conflicts.putBack(found.conflicts);
  at.database.statement('DELETE FROM koinon_resolved WHERE table_name = ? AND row_id = ?').run(tableName, id);
  showAnew(at, tableName, id);
}

/** Queues a transaction anew that the server refused, as it is. Runs inside a transaction. */
export function resendRefused({ outbox, host }: Deciding, transaction: string): void {
  if (resend(outbox, transaction, host.newId())) return;
  throw new KoinonError('nothing-to-undo', `The server has refused no transaction ${shown(transaction)}.`, {
    value: transaction,
  });
}

interface Resolved {
  /** What the device does to the server's row; undefined for nothing. */
  readonly change: Change | undefined;
  /** Columns that stay in conflict. */
  readonly left: readonly string[];
}

/** One side deleted the row and the other changed it. */
function wholeRow(at: Undoing, local: Change, remote: AnyRow | null, choices: Choices): Resolved {
  if (choices === 'remote') return { change: undefined, left: [] };
  if (choices !== 'local')
    throw new KoinonError(
      'value-not-listed',
      `One side deleted ${local.table} ${local.id}: choose 'local' or 'remote' for the whole row.`,
      { table: local.table, id: local.id, value: choices },
    );
  if (local.kind === 'delete' || remote !== null) return { change: local, left: [] };
  // What is edited here is gone there: it becomes a new row, with all that is shown of it.
  const { id, ...columns } = at.rows.get(local.table, local.id) as AnyRow;
  return { change: { kind: 'insert', table: local.table, id, columns }, left: [] };
}

/** Both changed the same columns. */
function byColumn(
  at: Undoing,
  local: Change,
  remote: AnyRow | null,
  choices: Choices,
  open: ReadonlyMap<string, unknown>,
): Resolved {
  const table = tableOf(at.schema, local.table);
  const { kind, id } = local;
  if (kind === 'delete') return { change: local, left: [] };
  const columns: Record<string, unknown> = { ...local.columns };
  const left: string[] = [];
  const isOne = typeof choices === 'string' || 'value' in choices;
  const unknown = isOne ? undefined : Object.keys(choices).find((name) => !open.has(name));
  if (unknown !== undefined)
    throw new KoinonError('no-such-conflict', `${local.table}.${unknown} of ${id} is not in conflict.`, {
      table: local.table,
      id,
      column: unknown,
    });
  for (const column of open.keys()) {
    const choice = isOne ? (choices as Choice) : (choices as Readonly<Record<string, Choice>>)[column];
    if (choice === undefined) left.push(column);
    else if (choice === 'remote') delete columns[column];
    else if (choice !== 'local') columns[column] = choice.value;
  }
  const operations = kind === 'update' ? local.operations : {};
  if (kind === 'insert' && remote === null) return { change: { ...local, columns }, left };
  const wanted = Object.fromEntries(
    Object.entries(columns).flatMap(([name, value]) => {
      const column = table.columns[name];
      const clean = column ? kept(column, value) : value;
      // A column that stays in conflict keeps what was typed, whatever the server has.
      return left.includes(name) || !sameValue(remote?.[name], clean) ? [[name, clean]] : [];
    }),
  );
  if (Object.keys(wanted).length === 0 && Object.keys(operations).length === 0) return { change: undefined, left };
  return { change: { kind: 'update', table: local.table, id, columns: wanted, operations }, left };
}

/** Carries out what takes changes back or settles them, by its name. Runs inside a transaction. */
export function decide(at: Deciding, name: Decision, given: readonly unknown[]): unknown {
  const [first, id, choices] = given as [string, string, Choices];
  if (name === 'undo') return undoLast(at);
  if (name === 'revert') return revertRow(at, first, id);
  if (name === 'revertAll') return revertAll(at);
  if (name === 'resend') return resendRefused(at, first);
  if (name === 'unresolve') return unresolveRow(at, first, id);
  return resolveRow(at, first, id, choices);
}

/** Whether a row was deleted here and nobody else knows of it. */
export function isDeletionUnsent(outbox: Outbox, table: string, id: string): boolean {
  const last = outbox.changesOf(table, id).at(-1);
  return last?.change.kind === 'delete' && (last.state === 'pending' || last.state === 'rejected');
}

/** The row to insert so that a deleted one is back as it was; undefined where it is there already, for whoever asked twice. */
export function bringBack(
  { rows, schema }: Pick<Deciding, 'rows' | 'schema'>,
  tableName: string,
  id: string,
  found: TrashedRow | undefined,
): Readonly<Record<string, unknown>> | undefined {
  const table = tableOf(schema, tableName);
  if (rows.get(tableName, id) !== null) return undefined;
  if (found === undefined)
    throw new KoinonError('no-such-row', `Nothing is kept of a deleted ${tableName} ${shown(id)}.`, {
      table: tableName,
      id,
    });
  const held = Object.entries(columnsFromWire(table, found.columns));
  return { ...Object.fromEntries(held.filter(([name]) => table.columns[name]?.assigned === false)), id };
}
