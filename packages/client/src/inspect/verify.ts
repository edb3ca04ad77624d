import { type AnyRow, KoinonError, type RowKey, type Schema, sameValue, tableOf } from '@koinon/core';
import { applyChange, changedColumns, rebase, rowKey, rowOfKey, type TypedOver, unmoved } from '@koinon/core/internal';
import { Database } from '../database/database.ts';
import { meta } from '../database/layout.ts';
import type { SqlDriver } from '../driver/driver.ts';
import { changedRows, onceRefused, orderProblems } from '../outbox/consistency.ts';
import { Outbox, type QueuedChange } from '../outbox/outbox.ts';
import { noPredictions } from '../outbox/prediction-list.ts';
import { StoredPredictions } from '../outbox/predictions.ts';
import { Conflicts } from '../overlay/conflicts.ts';
import { predictedAmong } from '../overlay/show.ts';
import { Bases } from '../rows/base.ts';
import { Rows } from '../rows/rows.ts';

/** Something in a replica file that its own rules rule out. */
export interface Finding {
  /** The row it is about, where it is about one. */
  readonly row: RowKey | null;
  readonly message: string;
}

/**
 * Checks that a replica file keeps its own rules: every change belongs to a transaction and can be read, every row that is shown
 * is the server's row with this device's changes over it, and every conflict belongs to a change that waits for it. Changes
 * nothing. An empty list: the file is sound.
 *
 * @example
 * const driver = await openNodeDriver({ file: 'phone.db', readOnly: true })
 * for (const { message } of verifyFile(driver, cooperative)) show(message)
 * driver.close()
 */
export function verifyFile(driver: SqlDriver, schema: Schema): readonly Finding[] {
  const database = new Database(driver);
  const findings: Finding[] = [];
  const found = (message: string, row: RowKey | null = null) => findings.push({ row, message });
  const problems = orderProblems(database);
  for (const message of problems) found(message);
  if (problems.length === 0) verifyRows(database, schema, found);
  return findings;
}

type Found = (message: string, row?: RowKey | null) => void;

/** That each row with own changes is what its base and they come to, and that nothing else has a base or a conflict. */
function verifyRows(database: Database, schema: Schema, found: Found): void {
  const rows = new Rows(database, schema);
  const hasActions = database.once("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_prediction'").length > 0;
  const predictions = hasActions ? new StoredPredictions(database, schema) : noPredictions;
  const outbox = new Outbox(database, schema, rows, predictions);
  const bases = new Bases(database, rows);
  const conflicts = new Conflicts(database, schema);
  const wasRefused = onceRefused(database);
  const isResyncing = meta(database, 'resync') !== undefined;
  const inConflict = new Map<string, (string | null)[]>();
  for (const { column, ...row } of conflicts.list())
    inConflict.set(rowKey(row), [...(inConflict.get(rowKey(row)) ?? []), column]);
  const changed = new Map<string, RowKey>();
  for (const key of [...changedRows(database), ...predictions.rows()])
    if (schema.tables[key.table]) changed.set(rowKey(key), key);
  for (const key of changed.values()) {
    try {
      const own = outbox.changesOf(key.table, key.id);
      const base = bases.get(key.table, key.id);
      const shown = rows.get(key.table, key.id);
      // While everything is fetched anew, a row shows what it showed until its turn comes.
      if (!isResyncing && !hasLeft(own, base, shown, wasRefused)) verifyRow(outbox, key, own, base, shown, found);
      const open = new Set(own.filter(isOpen).flatMap(({ typedOver }) => [...(typedOver?.keys() ?? [])]));
      const listed = inConflict.get(rowKey(key)) ?? [];
      if (listed.length !== open.size || listed.some((column) => !open.has(column)))
        found(`It is listed as in conflict for ${listed.join()}, and its changes wait for ${[...open].join()}.`, key);
    } catch (error) {
      found(`Its changes cannot be read: ${error instanceof KoinonError ? error.message : String(error)}.`, key);
    }
  }
  for (const [key, columns] of inConflict)
    if (!changed.has(key)) found(`A conflict of ${columns.join()} is listed, and nothing was changed.`, rowOfKey(key));
  const based = database.once('SELECT table_name AS "table", row_id AS id FROM koinon_base') as RowKey[];
  for (const key of based) if (!changed.has(rowKey(key))) found('It has a base, and nothing was changed.', key);
  if (meta(database, 'replica') === undefined) found('The replica has no id.');
}

const isOpen = ({ state }: QueuedChange) => state === 'pending' || state === 'rejected';

/** Tells whether a row has left the device: what was typed into it was refused, and may have been sent again since. */
function hasLeft(
  own: readonly QueuedChange[],
  base: AnyRow | null,
  shown: AnyRow | null,
  wasRefused: ReadonlySet<number>,
): boolean {
  return base === null && shown === null && own.some(({ sequence }) => wasRefused.has(sequence));
}

function verifyRow(
  { schema, predictions }: Outbox,
  key: RowKey,
  own: readonly QueuedChange[],
  base: AnyRow | null,
  shown: AnyRow | null,
  found: Found,
): void {
  const table = tableOf(schema, key.table);
  const predicted = predictedAmong(own, predictions.of(key.table, key.id));
  let row = base;
  for (const [i, { change, typedOver }] of own.entries()) {
    for (const { change: each } of predicted.filter(({ after }) => after === i)) row = applyChange(table, row, each);
    row = applyChange(table, laidOver(typedOver, row, key), change);
  }
  for (const { change: each } of predicted.filter(({ after }) => after === own.length))
    row = applyChange(table, row, each);
  const isSame = row === null || shown === null ? row === shown : changedColumns(table, row, shown).length === 0;
  if (!isSame) found(`It shows ${text(shown)}, and its base with what was changed here is ${text(row)}.`, key);
  const given = own.map((each) => ({
    change: each.change,
    isFixed: each.state === 'confirmed' || each.state === 'attempted',
    editedAt: each.editedAt,
    typedOver: each.typedOver,
    predictedOver: predictions.overOf(each),
  }));
  if (predicted.length === 0 && given.some(({ predictedOver }) => predictedOver !== undefined))
    found('It has a change that waits for an action which is not expected to change it.', key);
  const again = rebase(table, given, base, base, unmoved, predicted);
  const isSettled = again.changes.every(({ change }, i) => change !== undefined && sameValue(change, own[i]?.change));
  if (!isSettled) found('What was changed here is not what a rebase onto the same base leaves.', key);
}

function laidOver(typedOver: TypedOver | undefined, row: AnyRow | null, { id }: RowKey): AnyRow | null {
  if (!typedOver?.has(null)) return row;
  const before = typedOver.get(null) as AnyRow | null;
  return before && ({ ...before, id } as AnyRow);
}

const text = (row: AnyRow | null) => (row === null ? 'nothing' : JSON.stringify(row));
