import { type Change, KoinonError, limits, type Problem, type RowKey, type WireColumns } from '@koinon/core';
import { rowKey, rowsOfInput } from '@koinon/core/internal';
import type { Outbox, OutboxTransaction, QueuedAction, StoredChange, TransactionState } from './outbox.ts';

// The parts of the outbox about whole transactions: loaded with a sync, a decision, or when somebody asks. Everything runs
// inside a transaction of the database.

/**
 * Rows of the table read at a time when going through the whole list, and the bytes they hold, about: all are in memory. A request
 * of 500 transactions with one change each is one chunk.
 */
const chunk = { changes: 1_100, bytes: 262_144 };

/** Fewer rows than this are read one by one: what asks for many at once costs more to begin with. */
const worthReadingAtOnce = 8;

/** A transaction while its changes are read. */
interface Reading {
  readonly head: StoredChange;
  readonly changes: Change[];
  readonly actions: QueuedAction[];
  isConflicted: boolean;
}

/** The transactions of an outbox that are in one of these states, in order. */
export function transactionsOf(outbox: Outbox, ...states: TransactionState[]): Generator<OutboxTransaction> {
  return transactionsFrom(outbox, firstPlace(outbox, states), ...states);
}

/** The same from a place on. */
export function* transactionsFrom(
  outbox: Outbox,
  from: number,
  ...states: TransactionState[]
): Generator<OutboxTransaction> {
  const isWanted = ({ head }: Reading) => (states as string[]).includes(head.state ?? 'pending');
  let place = from - 1;
  let open: Reading | undefined;
  for (let end = endOfChunk(outbox, place); end !== null; end = endOfChunk(outbox, place)) {
    // In a damaged file places may stand out of order, and be come upon for ever.
    if (end <= place) throw outOfOrder();
    const rows = changesBetween(outbox, place, end);
    const ownRecords = rowsOfNew(outbox, rows);
    for (const row of rows) {
      if (row.kind === 'transaction') {
        if (open !== undefined && isWanted(open)) yield transactionOf(outbox, open);
        open = { head: row, changes: [], actions: [], isConflicted: false };
        continue;
      }
      if (open?.head.place !== row.sequence) throw outOfOrder();
      if (!isWanted(open)) continue;
      if (row.kind === 'action') {
        open.actions.push(actionOf(outbox, row, open.changes.length));
        continue;
      }
      open.changes.push(outbox.changeOf(row, ownRecords.get(row.table_name)?.get(row.row_id)));
      open.isConflicted ||= row.before !== null;
    }
    place = end;
  }
  if (open !== undefined && isWanted(open)) yield transactionOf(outbox, open);
}

/** An action as it is sent. The rows that it refers to are those of its input, and those that it is expected to change. */
function actionOf(outbox: Outbox, row: StoredChange, after: number): QueuedAction {
  const { place, sequence, table_name: name, row_id: id, columns } = row;
  const input = JSON.parse(columns ?? '{}') as WireColumns;
  // An app may have dropped an action of which a call is unsent.
  const action = Object.hasOwn(outbox.schema.actions, name) ? outbox.schema.actions[name] : undefined;
  const referred = action === undefined ? [] : rowsOfInput(action, input);
  const rows = [...referred, ...outbox.predictions.rowsOf(sequence, place)];
  return { place, id, name, input, after, refersTo: rows.slice(0, limits.actionRows) };
}

function outOfOrder(): KoinonError {
  return new KoinonError(
    'storage-damaged',
    'The database file is damaged: its outbox is not in order. Copy what can be read of it, and open a new replica.',
  );
}

/** The place of the last row behind another that is read along with those before it; null where there are no more. */
function endOfChunk({ database }: Outbox, place: number): number | null {
  // The end of the chunk is looked for first: a subquery with a limit would be gone through row by row.
  const end = 'SELECT place FROM koinon_outbox WHERE place > ?1 ORDER BY place LIMIT 1 OFFSET ?2';
  const next = `FROM koinon_outbox WHERE place > ?1 AND place < coalesce((${end}), 9223372036854775807)`;
  const { last, bytes } = database
    .statement(`SELECT max(place) AS last, sum(coalesce(octet_length(columns), 0)) AS bytes ${next}`)
    .get(place, chunk.changes) as { last: number | null; bytes: number | null };
  if ((bytes ?? 0) <= chunk.bytes) return last;
  const size = 'coalesce(octet_length(columns), 0)';
  const before = `SELECT place, sum(${size}) OVER (ORDER BY place) - ${size} AS before ${next}`;
  const fit = `SELECT max(place) AS last FROM (${before}) WHERE before < ?3`;
  return (database.statement(fit).get(place, chunk.changes, chunk.bytes) as { last: number }).last;
}

const members = [
  'place',
  'sequence',
  'kind',
  'table_name',
  'row_id',
  'columns',
  'operations',
  'before',
  'server_values',
  'id',
  'origin',
  'edited_at',
  'state',
] as const satisfies readonly (keyof StoredChange)[];

const selected = members.map((name) =>
  name === 'id' ? 'coalesce(id, origin)' : name === 'before' ? 'CASE is_acknowledged WHEN 0 THEN before END' : name,
);

/**
 * The rows of the table behind a place, up to another. As one text: drivers take longer for the members of so many objects
 * than SQLite for the rows.
 */
function changesBetween({ database }: Outbox, place: number, end: number): StoredChange[] {
  const { changes } = database
    .statement(
      `SELECT json_group_array(json_array(${selected.join(', ')})) AS changes
       FROM (SELECT * FROM koinon_outbox WHERE place > ? AND place <= ? ORDER BY place)`,
    )
    .get(place, end) as { changes: string };
  return (JSON.parse(changes) as unknown[][]).map(storedChange).sort((a, b) => a.place - b.place);
}

function storedChange(values: readonly unknown[]): StoredChange {
  const change: { [name in keyof StoredChange]?: unknown } = {};
  for (let i = 0; i < members.length; i++) change[members[i] as keyof StoredChange] = values[i];
  return change as StoredChange;
}

function transactionOf(outbox: Outbox, { head, changes, actions, isConflicted }: Reading): OutboxTransaction {
  const { place: sequence, id, origin, edited_at: editedAt, state } = head;
  return {
    sequence,
    id,
    origin,
    state: state ?? 'pending',
    editedAt,
    changes,
    actions,
    problems: state === 'rejected' ? problemsOf(outbox, sequence) : [],
    wasSent: state !== null,
    isConflicted,
    isOverPrediction: outbox.predictions.isOver(sequence),
  };
}

/** Why a transaction was refused. There may be as many reasons as changes: they are never read along with each of these. */
function problemsOf({ database }: Outbox, sequence: number): readonly Problem[] {
  const found = database.statement('SELECT problems FROM koinon_outbox WHERE place = ?').get(sequence);
  return JSON.parse((found as { problems: string | null }).problems ?? '[]') as Problem[];
}

/**
 * The rows of inserts that are their own record, by table and id: read at once, but for those that may hold bytes, which are
 * read when their turn comes.
 */
function rowsOfNew(
  { rows, schema }: Outbox,
  changes: readonly StoredChange[],
): Map<string, ReadonlyMap<string, Readonly<Record<string, unknown>>>> {
  const ids = new Map<string, string[]>();
  for (const { kind, columns, table_name: table, row_id: id } of changes) {
    if (kind !== 'insert' || columns !== null || !schema.tables[table]?.isPlain) continue;
    const known = ids.get(table);
    if (known) known.push(id);
    else ids.set(table, [id]);
  }
  return new Map(
    [...ids].flatMap(([table, wanted]) =>
      wanted.length < worthReadingAtOnce ? [] : [[table, rows.columnsOf(table, wanted)] as const],
    ),
  );
}

/**
 * The place of the first transaction in one of these states, or of one before it. A long outbox is confirmed from its beginning on:
 * that far is not gone through each time.
 */
function firstPlace(outbox: Outbox, states: readonly TransactionState[]): number {
  if (states.includes('confirmed')) return Number.MIN_SAFE_INTEGER + 1;
  const first = (from: number, passed: string) => {
    const found = outbox.database
      .statement(
        `SELECT place FROM koinon_outbox WHERE place >= ? AND kind = 'transaction' AND (state IS NULL OR state NOT IN (${passed})) ORDER BY place LIMIT 1`,
      )
      .get(from) as { place: number } | undefined;
    return found?.place;
  };
  const version = outbox.version();
  const known =
    outbox.firstUnconfirmed.version === version ? outbox.firstUnconfirmed.place : Number.MIN_SAFE_INTEGER + 1;
  const unconfirmed = first(known, "'confirmed', 'settled'");
  // If there is none, the next one stands behind all that are there.
  if (unconfirmed === undefined) return Number.MAX_SAFE_INTEGER;
  outbox.firstUnconfirmed = { version, place: unconfirmed };
  if (states.includes('attempted')) return unconfirmed;
  return first(unconfirmed, "'confirmed', 'settled', 'attempted'") ?? Number.MAX_SAFE_INTEGER;
}

/** The last transaction by the order of writing, and its state. */
export function lastTransaction({
  database,
}: Outbox): { readonly place: number; readonly state: string | null } | undefined {
  return database
    .statement("SELECT place, state FROM koinon_outbox WHERE kind = 'transaction' ORDER BY place DESC LIMIT 1")
    .get() as { place: number; state: string | null } | undefined;
}

/** The rows a transaction changes, each once; those the feed has brought back are no longer among them. */
export function rowsOf(outbox: Outbox, sequence: number, end = endOf(outbox, sequence)): RowKey[] {
  const text = `SELECT DISTINCT table_name AS "table", row_id AS id FROM koinon_outbox
    WHERE place > ? AND place < ? AND kind <> 'action' AND is_acknowledged = 0`;
  return outbox.database.statement(text).all(sequence, end) as RowKey[];
}

/** The rows on which a transaction shows: those that it changes, and those that its actions are expected to change. */
export function rowsShownBy(outbox: Outbox, sequence: number): RowKey[] {
  const rows = [...rowsOf(outbox, sequence), ...outbox.predictions.rowsOf(sequence)];
  return [...new Map(rows.map((row) => [rowKey(row), row])).values()];
}

/** The row of a transaction's first change that is in conflict. */
export function conflictedIn({ database }: Outbox, sequence: number): RowKey | undefined {
  const text =
    'SELECT table_name AS "table", row_id AS id FROM koinon_outbox WHERE place > ? AND sequence = ? AND before IS NOT NULL AND is_acknowledged = 0 ORDER BY place LIMIT 1';
  return database.statement(text).get(sequence, sequence) as RowKey | undefined;
}

/** How a transaction leaves the outbox: what it did is settled with the server, or the person takes it back. */
export type Leaving = 'settled' | 'taken back';

/** Drops a transaction with all its changes. */
export function drop(outbox: Outbox, sequence: number, how: Leaving): void {
  const end = endOf(outbox, sequence);
  for (const { table, id } of rowsOf(outbox, sequence, end))
    outbox.places.remove(table, id, new Set(placesIn(outbox, sequence, table, id)));
  dropSettled(outbox, sequence, end, how);
  dropMarks(outbox);
}

/**
 * Drops a transaction, up to a place, of which no change lies over a row any more. One that is settled leaves a mark where
 * earlier ones are left: `undo` must not take one of those for the last. {@link dropMarks} follows.
 */
export function dropSettled(outbox: Outbox, sequence: number, end: number, how: Leaving): void {
  outbox.revision++;
  outbox.predictions.drop(sequence);
  const { database } = outbox;
  database.statement('DELETE FROM koinon_outbox WHERE place > ? AND place < ?').run(sequence, end);
  const earlier = 'SELECT 1 FROM koinon_outbox WHERE place < ? LIMIT 1';
  if (how === 'settled' && database.statement(earlier).get(sequence) !== undefined)
    database
      .statement("UPDATE koinon_outbox SET state = 'settled', id = origin, problems = NULL WHERE place = ?")
      .run(sequence);
  else database.statement('DELETE FROM koinon_outbox WHERE place = ?').run(sequence);
}

/** Drops the marks of settled transactions but for the last one, and that as well where nothing is left before it. */
export function dropMarks({ database }: Outbox): void {
  const marks = "state IS NOT NULL AND state = 'settled'";
  const last = `(SELECT max(place) FROM koinon_outbox WHERE ${marks})`;
  const earlier = "SELECT 1 FROM koinon_outbox WHERE place < mark.place AND (state IS NULL OR state <> 'settled')";
  database
    .statement(`DELETE FROM koinon_outbox AS mark WHERE ${marks} AND (place < ${last} OR NOT EXISTS (${earlier}))`)
    .run();
}

/** The place behind a transaction's last change: its changes stand together, so that nobody need look further. */
export function endOf({ database }: Outbox, sequence: number): number {
  const next = "SELECT place FROM koinon_outbox WHERE place > ? AND kind = 'transaction' ORDER BY place LIMIT 1";
  const found = database.statement(next).get(sequence) as { place: number } | undefined;
  return found?.place ?? Number.MAX_SAFE_INTEGER;
}

/** The places of a transaction's changes of one row. */
export function placesIn(outbox: Outbox, sequence: number, table: string, id: string): number[] {
  const read = outbox.database.statement('SELECT sequence FROM koinon_outbox WHERE place = ?');
  return outbox.places.of(table, id).filter((place) => (read.get(place) as { sequence: number }).sequence === sequence);
}
