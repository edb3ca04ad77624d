import {
  type AnyRow,
  type Change,
  KoinonError,
  type RowKey,
  type Schema,
  type Table,
  type TrashedRow,
  tableOf,
  type WireChange,
} from '@koinon/core';
import {
  actionOf,
  applyChange,
  changeFromWire,
  changeProblems,
  changeToWire,
  checkValue,
  columnLabel,
  columnsFromWire,
  errorFromProblems,
  inputToWire,
  normalize,
  noSuchRow,
  type RebasedChange,
  rowKey,
  rowLabel,
  sentence,
  shown,
} from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import { dataVersion } from '../database/read-only.ts';
import type { Outbox, QueuedChange, TransactionState, Undone } from '../outbox/outbox.ts';
import { resend, restoreChanges, rewrite } from '../outbox/rewriting.ts';
import { writeTypedOver } from '../outbox/typed-over.ts';
import { type WriteTarget, Writing } from '../rows/writing.ts';
import type { Decision, DecisionResult } from './decision.ts';
import { type Finishing, finish } from './finish.ts';
import { moveRow, noRows, showAnew } from './show.ts';
import type { TakingBack } from './undo.ts';
import { alreadySent, checkTouched, discardRefused, revertAll, revertRows, undoLast } from './undo.ts';

/** A person's decision about one column, or a whole row, in conflict. */
export type Choice = 'local' | 'remote' | { readonly value: unknown };

/** One choice for all that is in conflict, or a choice by column; columns without one stay in conflict. */
export type Choices = Choice | { readonly [column: string]: Choice };

/** A choice for a column whose values are of this type. */
export type ChoiceOf<Value> = 'local' | 'remote' | { readonly value: Value };

/** The choices for a row: one for all that is in conflict, or one by column. */
export type ChoicesOf<R> =
  | ChoiceOf<R[Exclude<keyof R, 'id'>]>
  | { readonly [C in Exclude<Extract<keyof R, string>, 'id'>]?: ChoiceOf<R[C]> };

/** A row in conflict, and what is decided about it. */
export interface RowDecision extends RowKey {
  readonly choices: Choices;
}

/** The parts that decisions work on. */
export interface Deciding extends Finishing, WriteTarget {
  readonly database: Database;
}

/**
 * Settles the conflicts of rows as a person decides, all together: what they break together is refused, and nothing is
 * decided then. Each change stays in its place, so that its transaction stays whole; it goes up with the next sync. Runs
 * inside a transaction.
 */
export function resolveRows(at: Deciding, decisions: readonly RowDecision[]): void {
  resolveEach(at, decisions);
  checkTouched(at, decisions);
}

/** The same inside a transaction of the app, which is checked as a whole when it ends. */
export function resolveEach(at: Deciding, decisions: readonly RowDecision[]): void {
  at.outbox.undone.length = 0;
  for (const decision of decisions) resolveRow(at, decision);
}

function resolveRow(at: Deciding, { table: tableName, id, choices }: RowDecision): void {
  const { schema, outbox, conflicts, bases, host } = at;
  const table = tableOf(schema, tableName);
  const open = conflicts.columnsOf(tableName, id);
  if (open.length === 0)
    throw new KoinonError(
      'no-such-conflict',
      `${sentence(rowLabel(schema, { table: tableName, id }, at.rows.get(tableName, id)))} is not in conflict.`,
      {
        table: tableName,
        id,
      },
    );
  const queued = outbox.changesOf(tableName, id);
  if (queued.some(({ state }) => state === 'attempted'))
    throw alreadySent(`The change of ${rowLabel(schema, { table: tableName, id }, at.rows.get(tableName, id))}`);
  const own = queued.filter(({ state }) => state !== 'confirmed');
  const decided = open.includes(null)
    ? decideRow(at, own, choices, { table: tableName, id })
    : decideColumns(table, own, choicesOf(schema, choices, open as readonly string[], { table: tableName, id }));
  for (const { change } of decided) {
    const [first, ...rest] = change === undefined ? [] : changeProblems(table, change);
    if (first) throw errorFromProblems([first, ...rest]);
  }
  noteDecision(at, { table: tableName, id }, own);
  rewrite(outbox, own, decided, host, 'taken back');
  const base = bases.get(tableName, id);
  moveRow(at, { table: tableName, id }, { base, next: base, own: outbox.changesOf(tableName, id) }, noRows());
}

/** The decisions about each column; columns that stay in conflict are not in it. */
function choicesOf(
  schema: Schema,
  choices: Choices,
  open: readonly string[],
  { table, id }: RowKey,
): ReadonlyMap<string, Choice> {
  if (isForAll(choices, open)) return new Map(open.map((column) => [column, choices]));
  if (typeof choices !== 'object' || choices === null) throw noChoice({ table, id }, choices);
  const unknown = Object.keys(choices).find((name) => !open.includes(name));
  if (unknown !== undefined)
    throw new KoinonError('no-such-conflict', `${columnLabel(schema, table, unknown)} is not in conflict.`, {
      table,
      id,
      column: unknown,
    });
  for (const [column, choice] of Object.entries(choices))
    if (!isChoice(choice)) throw noChoice({ table, id, column }, choice);
  return new Map(Object.entries(choices));
}

/** Tells whether one choice is made for all columns. One of them may be called `value`, and have a choice of its own. */
function isForAll(choices: Choices, open: readonly string[]): choices is Choice {
  if (!isChoice(choices)) return false;
  return typeof choices === 'string' || !open.includes('value') || !isChoice(choices.value);
}

function isChoice(given: unknown): given is Choice {
  if (given === 'local' || given === 'remote') return true;
  return typeof given === 'object' && given !== null && 'value' in given;
}

function noChoice(at: RowKey & { readonly column?: string }, given: unknown): KoinonError {
  const what = at.column === undefined ? at.table : `${at.table}.${at.column}`;
  return new KoinonError(
    'value-not-listed',
    `A choice for ${what} is 'local', 'remote' or { value }, not ${shown(given)}.`,
    { ...at, value: given },
  );
}

/**
 * `local` keeps the own values, with the server's as what they were typed over. `remote` takes the column out of all own
 * changes from the first in conflict on. A value takes the place of the last own one.
 */
function decideColumns(
  table: Table,
  own: readonly QueuedChange[],
  choices: ReadonlyMap<string, Choice>,
): RebasedChange[] {
  const first = new Map<string, number>();
  const last = new Map<string, number>();
  own.forEach(({ change, typedOver }, i) => {
    for (const column of choices.keys()) {
      if (typedOver?.has(column) && !first.has(column)) first.set(column, i);
      if (change.kind !== 'delete' && Object.hasOwn(change.columns, column)) last.set(column, i);
    }
  });
  return own.map(({ change, typedOver = new Map() }, i) => {
    const left = new Map([...typedOver].filter(([column]) => column === null || !choices.has(column)));
    if (change.kind === 'delete') return { change, typedOver: left };
    const columns: Record<string, unknown> = { ...change.columns };
    for (const [column, choice] of choices) {
      if (i < (first.get(column) ?? 0)) continue;
      if (choice === 'remote') delete columns[column];
      else if (choice !== 'local' && last.get(column) === i) columns[column] = storedValue(table, column, choice.value);
    }
    return { change: withColumns(change, columns), typedOver: left };
  });
}

function storedValue({ columns }: Table, name: string, value: unknown): unknown {
  const column = columns[name];
  return column && checkValue(column, value) === undefined ? normalize(column, value) : value;
}

function withColumns(
  change: Exclude<Change, { kind: 'delete' }>,
  columns: Readonly<Record<string, unknown>>,
): Change | undefined {
  if (change.kind === 'insert') return { ...change, columns };
  const isNothing = Object.keys(columns).length === 0 && Object.keys(change.operations).length === 0;
  return isNothing ? undefined : { ...change, columns };
}

/** One side deleted the row and the other changed it. */
function decideRow(
  { schema }: Deciding,
  own: readonly QueuedChange[],
  choices: Choices,
  { table, id }: RowKey,
): RebasedChange[] {
  if (choices !== 'local' && choices !== 'remote')
    throw new KoinonError(
      'value-not-listed',
      `One side deleted ${rowLabel(schema, { table, id })}: choose 'local' or 'remote' for the whole row.`,
      { table, id, value: choices },
    );
  const first = own.findIndex(({ typedOver }) => typedOver?.has(null));
  return own.map(({ change, typedOver }, i) => {
    if (i < first) return { change, typedOver: typedOver ?? new Map() };
    if (choices === 'remote') return { change: undefined, typedOver: new Map() };
    const before = typedOver?.get(null) as AnyRow | null | undefined;
    if (!before || change.kind !== 'update') return { change, typedOver: new Map() };
    // A row that is edited here is gone there: it becomes a new row, with all that it held.
    const { id: _, ...columns } = applyChange(tableOf(schema, table), before, change) as AnyRow;
    return { change: { kind: 'insert', table, id, columns }, typedOver: new Map() };
  });
}

/** A change as it was before a decision. */
interface DecidedChange {
  readonly place: number;
  readonly sequence: number;
  readonly origin: string;
  readonly editedAt: number;
  readonly state: TransactionState;
  readonly wire: WireChange;
  readonly before: string | null;
}

/** Keeps a row's changes and conflicts as they were before the first decision about it. */
function noteDecision(
  { schema, database, conflicts }: Deciding,
  { table, id }: RowKey,
  own: readonly QueuedChange[],
): void {
  const changes = own.map(({ place, sequence, origin, editedAt, state, change, typedOver }): DecidedChange => {
    const before = typedOver ? writeTypedOver(schema, table, typedOver) : null;
    return { place, sequence, origin, editedAt, state, wire: changeToWire(schema, change), before };
  });
  database
    .statement('INSERT INTO koinon_resolved VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING')
    .run(table, id, JSON.stringify(changes), conflicts.take(table, id));
}

/**
 * Takes a decision back while it has not been sent and the server's row is still the one that was decided about: the
 * conflict is there again, with what the device had done. Runs inside a transaction.
 */
export function unresolveRow(at: Deciding, tableName: string, id: string): void {
  const { database, schema, outbox, bases, rows, conflicts, host } = at;
  const key = { table: tableName, id };
  const found = database
    .statement('SELECT changes, conflicts FROM koinon_resolved WHERE table_name = ? AND row_id = ?')
    .get(tableName, id) as { changes: string; conflicts: string } | undefined;
  if (found === undefined) throw nothingDecided(schema, key);
  const now = outbox.changesOf(tableName, id);
  if (now.some(({ state }) => state === 'attempted'))
    throw alreadySent(`The change of ${rowLabel(schema, { table: tableName, id }, at.rows.get(tableName, id))}`);
  if (now.length === 0) bases.set(tableName, id, rows.get(tableName, id));
  outbox.keepInserted(tableName, id);
  const decided = JSON.parse(found.changes) as readonly DecidedChange[];
  const restored = restoreChanges(
    outbox,
    decided.map(({ wire, ...rest }) => ({ ...rest, change: changeFromWire(schema, wire) })),
    host,
  );
  if (!restored) throw nothingDecided(schema, key);
  conflicts.set(tableName, id, []);
  conflicts.putBack(found.conflicts);
  database.statement('DELETE FROM koinon_resolved WHERE table_name = ? AND row_id = ?').run(tableName, id);
  showAnew(at, key);
}

function nothingDecided(schema: Schema, { table, id }: RowKey): KoinonError {
  return new KoinonError(
    'nothing-to-undo',
    `No decision about ${rowLabel(schema, { table, id })} can be taken back: none was made, it was sent, or the row has changed since.`,
    { table, id },
  );
}

/** Queues a transaction anew that the server refused, as it is. Runs inside a transaction. */
export function resendRefused({ outbox, host }: Deciding, transaction: string): void {
  if (resend(outbox, transaction, host.newId())) return;
  throw new KoinonError('nothing-to-undo', `The server has refused no transaction ${shown(transaction)}.`, {
    value: transaction,
  });
}

function replay(writing: Writing, change: Change): void {
  const { table, id } = change;
  if (change.kind === 'delete') writing.delete(table, id);
  else if (change.kind === 'insert') writing.insert(table, { ...change.columns, id });
  else {
    if (Object.keys(change.columns).length > 0) writing.update(table, id, change.columns);
    for (const [column, operation] of Object.entries(change.operations)) writing.operate(table, id, column, operation);
  }
}

/** Does again what `undo` has taken back last. Returns the rows that changes. */
export function redoLast(at: Deciding): readonly RowKey[] {
  const { outbox } = at;
  const next = outbox.undone.at(-1);
  // A write of this process empties the list; a write of another one is told by SQLite.
  if (next === undefined || next.version !== dataVersion(at.database))
    throw new KoinonError(
      'nothing-to-redo',
      'There is nothing to redo: nothing was undone, or something was written since.',
    );
  const others = outbox.undone.slice(0, -1);
  // It is the same act: a copy of the file may have it still.
  const writing = new Writing(at, next.origin);
  for (const [i, change] of next.changes.entries()) {
    redoActions(writing, next, i);
    replay(writing, change);
  }
  redoActions(writing, next, next.changes.length);
  finish(at, writing);
  outbox.undone.push(...others);
  const changed = [...next.changes, ...next.actions.flatMap(({ predicted }) => predicted)];
  return [...new Map(changed.map(({ table, id }) => [rowKey({ table, id }), { table, id }])).values()];
}

/** Invokes the actions again that came before the change of that number. */
function redoActions(writing: Writing, { actions }: Undone, before: number): void {
  for (const { name, input, id, after, predicted } of actions) {
    if (after !== before) continue;
    writing.invokeAgain(name, input, id);
    for (const change of predicted) replay(writing, change);
    writing.endPrediction();
  }
}

/** Gives a refused action another input, and has its transaction go up again. @throws KoinonError `no-such-invocation`. */
function amendRefused(at: Deciding, { id }: { readonly id?: unknown }, given: Readonly<Record<string, unknown>>): void {
  const { database, outbox, schema, host } = at;
  const found = database
    .statement(
      `SELECT a.place, a.table_name AS name, t.id AS "transaction" FROM koinon_outbox t JOIN koinon_outbox a ON a.sequence = t.place
       WHERE t.state = 'rejected' AND a.kind = 'action' AND a.row_id = ?`,
    )
    .get(typeof id === 'string' ? id : null) as { place: number; name: string; transaction: string } | undefined;
  if (found === undefined)
    throw new KoinonError('no-such-invocation', `The server has refused no call ${shown(id)} of an action.`, {
      value: id,
    });
  const input = inputToWire(found.name, actionOf(schema, found.name), given);
  database.statement('UPDATE koinon_outbox SET columns = ? WHERE place = ?').run(JSON.stringify(input), found.place);
  resend(outbox, found.transaction, host.newId());
}

/** The calls that take changes back or settle them, with arguments that have been looked at (`engine/arguments.ts`). */
const decisions: { readonly [K in Decision]: (at: Deciding, given: readonly unknown[]) => DecisionResult<K> } = {
  undo: undoLast,
  redo: redoLast,
  revert: (at, given) => revertRows(at, ...(given as [RowKey[], TakingBack?])),
  revertAll,
  resend: (at, [transaction]) => resendRefused(at, transaction as string),
  discard: (at, given) => discardRefused(at, ...(given as [string, TakingBack?])),
  amend: (at, [invoked, input]) => amendRefused(at, invoked as object, input as Record<string, unknown>),
  unresolve: (at, given) => unresolveRow(at, ...(given as [string, string])),
  resolve: (at, [rows]) => resolveRows(at, rows as readonly RowDecision[]),
};

/** Carries out one of them, by its name. Runs inside a transaction. */
export function decide<K extends Decision>(at: Deciding, name: K, given: readonly unknown[]): DecisionResult<K> {
  if (name !== 'undo' && name !== 'redo') at.outbox.undone.length = 0;
  return decisions[name](at, given);
}

/** Tells whether a row was deleted here and nobody else knows of it. */
export function isDeletionUnsent(outbox: Outbox, table: string, id: string): boolean {
  const last = outbox.changesOf(table, id).at(-1);
  return last?.change.kind === 'delete' && (last.state === 'pending' || last.state === 'rejected');
}

/** Takes back the deletion of a row that nobody else knows of; what was done to it before stays. */
export function undelete(at: Deciding, table: string, id: string): void {
  at.outbox.undone.length = 0;
  const own = at.outbox.changesOf(table, id);
  const left = own.map(({ change, typedOver = new Map() }, i) =>
    i === own.length - 1 ? { change: undefined, typedOver: new Map() } : { change, typedOver },
  );
  rewrite(at.outbox, own, left, at.host, 'taken back');
  showAnew(at, { table, id });
  checkTouched(at, [{ table, id }]);
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
    throw new KoinonError(
      'no-such-row',
      noSuchRow(schema, { table: tableName, id }, 'among the deleted rows that are kept'),
      {
        table: tableName,
        id,
      },
    );
  const held = Object.entries(columnsFromWire(table, found.columns));
  return { ...Object.fromEntries(held.filter(([name]) => table.columns[name]?.assigned === false)), id };
}
