import {
  type AnyRow,
  KoinonError,
  type PulledPage,
  type PulledRow,
  type RowBlock,
  type RowKey,
  sameValue,
  type Table,
  tableOf,
  type WireColumns,
} from '@koinon/core';
import {
  applyChange,
  columnsFromWire,
  quoteName,
  rowKey,
  rowsOfBlock,
  wholeRow,
  withoutBlocks,
} from '@koinon/core/internal';
import { askForRows } from '../database/holding-list.ts';
import { beforeOf, keep } from '../outbox/history.ts';
import type { QueuedChange } from '../outbox/outbox.ts';
import { markAcknowledged, placesOfSent } from '../outbox/sending.ts';
import { dropMarks, dropSettled, endOf, rowsShownBy } from '../outbox/transactions.ts';
import { adoptIds } from './adopt.ts';
import { applyDisjoint } from './disjoint.ts';
import { erase, leave } from './leave.ts';
import { type Applying, moveRow, noRows, type RowCounts, showAnew } from './show.ts';

/**
 * Applies one page of a pull. The view of a row is its base, which only the feed moves, under the own confirmed changes
 * that the feed has not brought back, under the unconfirmed ones. A page moves bases and drops the confirmed changes it
 * covers in the same local transaction, so the view never shows an older value than it did. Runs inside a transaction.
 *
 * @param isAskedFor what the page was asked for.
 * @param isFirst whether rows without own changes are all new here: the first download, which names each row once.
 */
export function applyPage(overlay: Applying, page: PulledPage, isAskedFor: AsksFor, isFirst = false): RowCounts {
  const counts = noRows();
  const merging: Merging = {
    covered: new Set(page.header.acknowledged),
    isAskedFor,
    wanted: new Map(),
    serverTime: Date.parse(page.header.time),
    hasDecisions: overlay.database.statement('SELECT 1 FROM koinon_resolved LIMIT 1').get() !== undefined,
    counts,
  };
  // A server may know tables this app's version does not.
  const { tables } = overlay.schema;
  if (overlay.outbox.isEmpty()) {
    const { rows, blocks = [] } = page;
    for (const block of blocks) if (tables[block.table]) writeBlock(overlay, block, counts, isFirst);
    for (const row of rows) if (tables[row.table]) writeThrough(overlay, row, counts, isFirst);
    eraseLeft(overlay, rows);
    return counts;
  }
  const { header, rows } = withoutBlocks(page);
  adoptIds(overlay, rows);
  for (const { table, pulled: some } of chunks(rows)) {
    const definition = tables[table];
    if (!definition) continue;
    const pulled = merging.hasDecisions ? some : applyDisjoint(overlay, table, definition, some, counts);
    const changes = overlay.outbox.changesOfAll(
      table,
      pulled.map(({ id }) => id),
    );
    const { predictions } = overlay.outbox;
    for (const { id } of pulled) if (predictions.has(table, id) && !changes.has(id)) changes.set(id, []);
    const bases = changes.size === 0 ? new Map<string, AnyRow>() : basesOf(overlay, table, [...changes.keys()]);
    for (const row of pulled) {
      const queued = changes.get(row.id);
      if (queued === undefined) writeThrough(overlay, row, counts, isFirst);
      else mergeInto(overlay, row, bases.get(row.id) ?? null, queued, merging);
    }
  }
  if (!header.more && header.acknowledged.length > 0) {
    for (const id of header.acknowledged) settleCovered(overlay, id, merging);
    dropMarks(overlay.outbox);
  }
  for (const { table, id } of askForRows(overlay.database, [...merging.wanted.values()]))
    leave(overlay, table, id, overlay.outbox.changesOf(table, id));
  eraseLeft(overlay, rows);
  return counts;
}

function eraseLeft(overlay: Applying, rows: readonly PulledRow[]): void {
  const left = rows.filter(({ kind, table }) => kind === 'leave' && overlay.schema.tables[table]);
  if (left.length > 0) erase(overlay, left);
}

/** Rows read together at most. */
const chunkRows = 500;

/** Rows in order, cut where another table begins: what is known of those of one table is read at once. */
function* chunks(
  rows: readonly PulledRow[],
): Generator<{ readonly table: string; readonly pulled: readonly PulledRow[] }> {
  for (let from = 0, to = 0; from < rows.length; from = to) {
    const { table } = rows[from] as PulledRow;
    while (to < rows.length && to < from + chunkRows && rows[to]?.table === table) to++;
    yield { table, pulled: rows.slice(from, to) };
  }
}

/** The bases of several rows of one table, by id; those without one are left out. */
function basesOf({ database, rows }: Applying, table: string, ids: readonly string[]): Map<string, AnyRow> {
  const found = database
    .statement(
      'SELECT row_id AS id, columns FROM koinon_base WHERE table_name = ? AND row_id IN (SELECT value FROM json_each(?))',
    )
    .all(table, JSON.stringify(ids)) as { id: string; columns: string }[];
  return new Map(found.map(({ id, columns }) => [id, rows.rowOf(table, id, columns)]));
}

/** A block of rows that are new here: in one go where nobody asks for the rows themselves. */
function writeBlock(overlay: Applying, block: RowBlock, counts: RowCounts, isFirst: boolean): void {
  const { schema, rows, commit } = overlay;
  const isTakenWhole = !tableOf(schema, block.table).hasBytes && !commit.isWatched(block.table);
  if (isTakenWhole && (isFirst || areNew(overlay, block))) {
    rows.putBlock(block);
    counts.insert += block.rows.length;
  } else for (const row of rowsOfBlock(block)) writeThrough(overlay, row, counts, isFirst);
}

/** Tells whether none of the rows of a block is here. */
function areNew({ database }: Applying, { table, rows }: RowBlock): boolean {
  const some = `SELECT 1 FROM ${quoteName(table)} WHERE id IN (SELECT value FROM json_each(?)) LIMIT 1`;
  return database.statement(some).get(JSON.stringify(rows.map(([id]) => id))) === undefined;
}

/** A row without local changes simply becomes what the server has. */
function writeThrough(overlay: Applying, pulled: PulledRow, counts: RowCounts, isFirst: boolean): void {
  const { schema, rows, commit } = overlay;
  const { table: tableName, id } = pulled;
  if (pulled.kind === 'leave') {
    if (leave(overlay, tableName, id, []) !== null) counts.leave++;
    return;
  }
  const before = isFirst ? null : rows.get(tableName, id);
  if (pulled.kind === 'delete') {
    if (before !== null) counts.delete++;
    rows.remove(tableName, id);
    commit.note(tableName, id, before, null);
    return;
  }
  const table = tableOf(schema, tableName);
  if (isFirst && pulled.kind === 'insert' && !table.hasBytes && !commit.isWatched(tableName)) {
    // As it came: nobody asks for the row itself.
    rows.put(tableName, id, pulled.columns);
    counts.insert++;
    return;
  }
  const columns = columnsFromWire(table, pulled.columns);
  if (pulled.kind === 'insert') {
    const after = wholeRow(table, id, columns);
    rows.put(tableName, id, after);
    commit.note(tableName, id, before, after);
    if (before === null) counts.insert++;
    else if (!sameValue(before, after)) counts.update++;
  } else {
    if (before === null) throw rowMissing(tableName, id);
    if (Object.keys(columns).some((name) => !sameValue(before[name], columns[name]))) counts.update++;
    rows.patch(tableName, id, columns);
    commit.note(tableName, id, before, wholeRow(table, id, { ...before, ...columns }));
  }
}

/** Tells whether a row is among those that were asked for. */
export type AsksFor = (table: string, row: AnyRow) => boolean;

/** The parts that merging the rows of one page works with. */
interface Merging {
  /** The transactions the page brings back. */
  readonly covered: ReadonlySet<string>;
  readonly isAskedFor: AsksFor;
  /** Rows that are not asked for, and of which the feed has not brought back everything. */
  readonly wanted: Map<string, RowKey>;
  readonly serverTime: number;
  /** Tells whether any decision of a person can still be taken back. */
  readonly hasDecisions: boolean;
  readonly counts: RowCounts;
}

/** A row with own changes: the base moves, and what the device did is rebased onto it. */
function mergeInto(
  overlay: Applying,
  pulled: PulledRow,
  base: AnyRow | null,
  queued: readonly QueuedChange[],
  { covered, isAskedFor, wanted, serverTime, hasDecisions, counts }: Merging,
): void {
  const { schema, database, outbox } = overlay;
  const { table: tableName, id } = pulled;
  const back = queued.filter((change) => covered.has(change.id));
  const own = queued.filter((change) => !covered.has(change.id));
  acknowledge(overlay, base, back);
  for (const { transaction, sequence } of outbox.predictions.of(tableName, id))
    if (covered.has(transaction)) outbox.predictions.dropRow(tableName, id, sequence);
  const table = tableOf(schema, tableName);
  if (pulled.kind === 'leave') {
    // Moved out of what is asked for by this device itself: the server may still take what was typed into it since.
    const sent = [...back, ...own.filter(({ state }) => state === 'confirmed')];
    const known = included(table, base, sent);
    if (
      known !== null &&
      sent.length > 0 &&
      outbox.hasUnsentChangesOf(tableName, id) &&
      !isAskedFor(tableName, known)
    ) {
      wanted.set(rowKey(pulled), pulled);
      const from = included(table, base, back);
      moveRow(overlay, pulled, { base: from, next: from, own }, counts);
    } else if (leave(overlay, tableName, id, own) !== null) counts.leave++;
    return;
  }
  let next: AnyRow | null = null;
  if (pulled.kind !== 'delete') {
    const columns = columnsFromWire(table, pulled.columns);
    if (pulled.kind === 'update' && base === null) throw rowMissing(tableName, id);
    next = pulled.kind === 'insert' ? wholeRow(table, id, columns) : wholeRow(table, id, { ...base, ...columns });
  }
  // A decision that was made about another row than there is now cannot be taken back any more.
  if (hasDecisions)
    database.statement('DELETE FROM koinon_resolved WHERE table_name = ? AND row_id = ?').run(tableName, id);
  const image = pulled.kind === 'delete' && pulled.columns ? lastOf(table, id, base, pulled.columns) : null;
  const editedAt = (column: string) => {
    const time = pulled.times?.[column] ?? pulled.editedAt;
    return time === undefined ? undefined : Date.parse(time);
  };
  moveRow(
    overlay,
    pulled,
    {
      base: included(table, base, back),
      next,
      own,
      remote: { editedAt, time: serverTime, image, remoteBy: pulled.editedBy ?? null },
    },
    counts,
  );
}

/**
 * A deleted row as it was last on the server. A required column that is empty there is one that the server has come to know since: it
 * is as it was here.
 */
function lastOf(table: Table, id: string, base: AnyRow | null, columns: WireColumns): AnyRow {
  const held = Object.entries(columnsFromWire(table, columns)).filter(
    ([name, value]) => value !== null || table.columns[name]?.optional === true,
  );
  return wholeRow(table, id, { ...base, ...Object.fromEntries(held) });
}

/** The base with what the feed has brought back of this device's own: what the rest was typed over. */
function included(table: Table, base: AnyRow | null, back: readonly QueuedChange[]): AnyRow | null {
  return back.reduce((row, { change }) => applyChange(table, row, change), base);
}

/**
 * A transaction that the feed has wholly brought back leaves the outbox, with what it did to rows that no page named. A row that this
 * device made and that no page named is not one of those that it asks for. It leaves as soon as the feed has brought back everything
 * that was done to it; until then its transactions stay.
 */
function settleCovered(overlay: Applying, id: string, merging: Merging): void {
  const { covered } = merging;
  const { database, schema, outbox, bases, host } = overlay;
  for (const sequence of placesOfSent(outbox, id)) {
    const end = endOf(outbox, sequence);
    const rows = rowsShownBy(outbox, sequence);
    const expected = outbox.predictions.rowsOf(sequence);
    for (const { table, id: row } of expected) outbox.predictions.dropRow(table, row, sequence);
    const open = rows.filter((row) => isNotAskedFor(overlay, row, merging) && hasUncovered(overlay, row, covered));
    if (open.length > 0) {
      // From here on others may write it unseen.
      for (const row of open) merging.wanted.set(rowKey(row), row);
      // An edit over a value that an action was expected to give waits for that action, and must not be waited for.
      for (const row of expected) showAnew(overlay, row);
      continue;
    }
    for (const row of rows) {
      const base = bases.get(row.table, row.id);
      const queued = outbox.changesOf(row.table, row.id);
      const back = queued.filter((change) => change.sequence === sequence);
      const own = queued.filter((change) => change.sequence !== sequence);
      const isLeaving = isNotAskedFor(overlay, row, merging);
      acknowledge(overlay, base, back);
      const from = included(tableOf(schema, row.table), base, back);
      if (isLeaving) leave(overlay, row.table, row.id, []);
      else moveRow(overlay, row, { base: from, next: base, own }, noRows());
    }
    // Kept for a while, should the server lose it.
    keep(database, sequence, end, host.now());
    dropSettled(outbox, sequence, end, 'settled');
  }
}

/**
 * Tells whether a row was made here, and the feed has brought its insert back without naming it, since it is not asked for. One that is
 * asked for was deleted meanwhile.
 */
function isNotAskedFor(
  { schema, bases, outbox }: Applying,
  { table, id }: RowKey,
  { covered, isAskedFor }: Merging,
): boolean {
  const back = outbox.changesOf(table, id).filter((own) => covered.has(own.id));
  if (bases.get(table, id) !== null || !back.some(({ change }) => change.kind === 'insert')) return false;
  const row = included(tableOf(schema, table), null, back);
  return row !== null && !isAskedFor(table, row);
}

/** Tells whether something was done to a row that the feed has not brought back. */
const hasUncovered = ({ outbox }: Applying, { table, id }: RowKey, covered: ReadonlySet<string>): boolean =>
  outbox.changesOf(table, id).some((own) => !covered.has(own.id));

/** Notes that the feed has brought back these changes of one row; `base` lay under them. */
function acknowledge({ schema, outbox }: Applying, base: AnyRow | null, changes: readonly QueuedChange[]): void {
  const [first] = changes;
  if (first) markAcknowledged(outbox, first.change.table, first.change.id, changes, beforeOf(schema, base, changes));
}

function rowMissing(table: string, id: string): KoinonError {
  return new KoinonError(
    'server-answer',
    `The server sent changed columns of a row of ${table} that this replica does not hold. The server may be at fault, or another program has removed the row from this file. What is unsent is kept; if this stays, open a new replica and import what this one has.`,
    { table, id },
  );
}
