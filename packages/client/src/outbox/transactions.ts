import { type Change, KoinonError, type Problem } from '@koinon/core';
import { joined, type Outbox, type OutboxTransaction, type StoredChange, type TransactionState } from './outbox.ts';

// What concerns whole transactions of the outbox: loaded with a sync, a decision, or when somebody asks. Everything runs
// inside a transaction of the database.

/** Changes read at a time when going through the whole list, and the bytes they hold, about: all are in memory. */
const chunk = { changes: 500, bytes: 262_144 };

/** Fewer rows than this are read one by one: what asks for many at once costs more to begin with. */
const worthReadingAtOnce = 8;

/** The transactions of an outbox that are in one of these states, in order. */
export function* transactionsOf(outbox: Outbox, ...states: TransactionState[]): Generator<OutboxTransaction> {
  let place = states.includes('confirmed') ? Number.MIN_SAFE_INTEGER : firstUnconfirmed(outbox) - 1;
  let open: { readonly head: StoredChange; readonly changes: Change[] } | undefined;
  for (let end = endOfChunk(outbox, place); end !== null; end = endOfChunk(outbox, place)) {
    // In a damaged file places may stand out of order, and be come upon for ever.
    if (end <= place)
      throw new KoinonError('storage-damaged', 'The database file is damaged: its outbox is not in order.');
    const rows = changesBetween(outbox, place, end);
    const wanted = rows.filter(({ state }) => states.includes(state ?? 'pending'));
    const ownRecords = rowsOfNew(outbox, wanted);
    for (const row of rows) {
      if (open?.head.sequence !== row.sequence) {
        if (open !== undefined && states.includes(open.head.state ?? 'pending')) yield transactionOf(outbox, open);
        open = { head: row, changes: [] };
      }
      if (states.includes(row.state ?? 'pending'))
        open.changes.push(outbox.changeOf(row, ownRecords.get(row.table_name)?.get(row.row_id)));
    }
    place = end;
  }
  if (open !== undefined && states.includes(open.head.state ?? 'pending')) yield transactionOf(outbox, open);
}

/** The place of the last change behind another that is read along with those before it; null where there are no more. */
function endOfChunk({ database }: Outbox, place: number): number | null {
  const next =
    'SELECT place, coalesce(octet_length(columns), 0) AS size FROM koinon_change WHERE place > ? ORDER BY place LIMIT ?';
  const { last, bytes } = database
    .statement(`SELECT max(place) AS last, sum(size) AS bytes FROM (${next})`)
    .get(place, chunk.changes) as { last: number | null; bytes: number | null };
  if ((bytes ?? 0) <= chunk.bytes) return last;
  const fit = `SELECT max(place) AS last FROM (SELECT place, sum(size) OVER (ORDER BY place) - size AS before FROM (${next})) WHERE before < ?`;
  return (database.statement(fit).get(place, chunk.changes, chunk.bytes) as { last: number }).last;
}

const members = [
  'place',
  'sequence',
  'table_name',
  'row_id',
  'kind',
  'columns',
  'operations',
  'id',
  'edited_at',
  'state',
  'server_values',
] as const satisfies readonly (keyof StoredChange)[];

/**
 * Changes behind a place, up to another. As one text: drivers take longer for the members of so many objects than SQLite for
 * the rows.
 */
function changesBetween({ database }: Outbox, place: number, end: number): StoredChange[] {
  const { changes } = database
    .statement(
      `SELECT json_group_array(json_array(${members.join(', ')})) AS changes
       FROM (${joined} WHERE c.place > ? AND c.place <= ?)`,
    )
    .get(place, end) as { changes: string };
  return (JSON.parse(changes) as unknown[][]).map(storedChange).sort((a, b) => a.place - b.place);
}

function storedChange(values: readonly unknown[]): StoredChange {
  const change: { [name in keyof StoredChange]?: unknown } = {};
  for (let i = 0; i < members.length; i++) change[members[i] as keyof StoredChange] = values[i];
  return change as StoredChange;
}

function transactionOf(
  outbox: Outbox,
  {
    head: { sequence, id, edited_at, state },
    changes,
  }: { readonly head: StoredChange; readonly changes: readonly Change[] },
): OutboxTransaction {
  return {
    sequence,
    id: id as string,
    state: state ?? 'pending',
    editedAt: edited_at as number,
    changes,
    problems: state === 'rejected' ? problemsOf(outbox, sequence) : [],
    wasSent: state !== null,
  };
}

/** Why a transaction was refused. There may be as many reasons as changes: they are never read along with each of these. */
function problemsOf({ database }: Outbox, sequence: number): readonly Problem[] {
  const found = database.statement('SELECT problems FROM koinon_sent WHERE sequence = ?').get(sequence);
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

/** The place of the first change that is not confirmed: a long outbox is confirmed from its beginning on. */
function firstUnconfirmed({ database }: Outbox): number {
  const found = database
    .statement(
      `SELECT c.place FROM koinon_change c LEFT JOIN koinon_sent s ON s.sequence = coalesce(c.sequence, c.place)
       WHERE s.state IS NULL OR s.state <> 'confirmed' ORDER BY c.place LIMIT 1`,
    )
    .get() as { place: number } | undefined;
  return found?.place ?? Number.MAX_SAFE_INTEGER;
}

/** The rows a transaction changes, each once; those the feed has brought back are no longer among them. */
export function rowsOf(
  outbox: Outbox,
  sequence: number,
  end = endOf(outbox, sequence),
): { readonly table: string; readonly id: string }[] {
  const text =
    'SELECT DISTINCT table_name AS "table", row_id AS id FROM koinon_change WHERE place >= ? AND place < ? AND back = 0';
  return outbox.database.statement(text).all(sequence, end) as { table: string; id: string }[];
}

/** Drops a transaction with all its changes. */
export function drop(outbox: Outbox, sequence: number): void {
  const end = endOf(outbox, sequence);
  for (const { table, id } of rowsOf(outbox, sequence, end))
    outbox.places.remove(table, id, new Set(placesIn(outbox, sequence, table, id)));
  dropSettled(outbox, sequence, end);
}

/** Drops a transaction, up to a place, of which no change lies over a row any more. */
export function dropSettled(outbox: Outbox, sequence: number, end: number): void {
  outbox.revision++;
  outbox.database.statement('DELETE FROM koinon_change WHERE place >= ? AND place < ?').run(sequence, end);
  outbox.database.statement('DELETE FROM koinon_sent WHERE sequence = ?').run(sequence);
}

/** The place behind a transaction's last change: its changes stand together, so that nobody need look further. */
export function endOf({ database }: Outbox, sequence: number): number {
  const next =
    'SELECT place FROM koinon_change WHERE place > ? AND coalesce(sequence, place) <> ? ORDER BY place LIMIT 1';
  const found = database.statement(next).get(sequence, sequence) as { place: number } | undefined;
  return found?.place ?? Number.MAX_SAFE_INTEGER;
}

/** The places of a transaction's changes of one row. */
export function placesIn(outbox: Outbox, sequence: number, table: string, id: string): number[] {
  const read = outbox.database.statement(
    'SELECT coalesce(sequence, place) AS sequence FROM koinon_change WHERE place = ?',
  );
  return outbox.places.of(table, id).filter((place) => (read.get(place) as { sequence: number }).sequence === sequence);
}
