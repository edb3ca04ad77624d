import { KoinonError, type RowKey } from '@koinon/core';
import type { Database } from '../database/database.ts';

interface StoredRow {
  readonly place: number;
  readonly kind: string;
  readonly sequence: number | null;
  readonly state: string | null;
  readonly id: string | null;
  readonly origin: string | null;
  readonly edited_at: number | null;
  readonly table_name: string | null;
  readonly row_id: string | null;
  readonly is_readable: number;
}

const states = [null, 'pending', 'attempted', 'confirmed', 'rejected', 'settled'];

/**
 * The faults of the outbox as a list: the identity of each transaction, that its changes follow it and can be read, and that
 * what is being sent is marked as that. Something else than this program may have written the file.
 */
export function orderProblems(database: Database): readonly string[] {
  const stored = database.statement(
    `SELECT place, kind, sequence, state, id, origin, edited_at, table_name, row_id,
       json_valid(coalesce(columns, '{}')) AND json_valid(coalesce(operations, '{}')) AND json_valid(coalesce(before, '{}')) AS is_readable
     FROM koinon_outbox ORDER BY place`,
  );
  const problems: string[] = [];
  let head: StoredRow | undefined;
  let changes = 0;
  const attempted = new Set<string>();
  const end = () => {
    if (head !== undefined && head.state !== 'settled' && changes === 0)
      problems.push(`The transaction at place ${head.place} of the outbox has no changes.`);
    changes = 0;
  };
  for (const row of stored.iterate() as Iterable<StoredRow>) {
    const { place, kind, sequence, state, id, origin, edited_at } = row;
    if (kind !== 'transaction') {
      changes++;
      if (sequence === null || sequence !== head?.place)
        problems.push(`The change at place ${place} of the outbox does not follow its transaction.`);
      if (row.table_name === null || row.row_id === null) problems.push(`The change at place ${place} names no row.`);
      if (row.is_readable === 0) problems.push(`The change at place ${place} cannot be read.`);
      continue;
    }
    end();
    head = row;
    if (origin === null || edited_at === null)
      problems.push(`The transaction at place ${place} has no origin or no time.`);
    if (!states.includes(state)) problems.push(`The transaction at place ${place} is in no known state: ${state}.`);
    if (state !== null && id === null) problems.push(`The transaction at place ${place} was sent and has no id.`);
    if (state === 'attempted') attempted.add(id ?? '');
  }
  end();
  const sent = sentIn(database);
  if (sent === undefined) return [...problems, 'The request under way cannot be read.'];
  for (const id of sent)
    if (!attempted.has(id))
      problems.push(`The request under way names the transaction ${id}, which is not marked as attempted.`);
  for (const id of attempted)
    if (!sent.has(id))
      problems.push(`The transaction ${id} is marked as attempted, and no request under way names it.`);
  return problems;
}

/** The ids in the request under way; undefined where it cannot be read. */
function sentIn(database: Database): ReadonlySet<string> | undefined {
  const isReadable = "json_type(CASE WHEN json_valid(body) THEN body ELSE '{}' END, '$.transactions') IS 'array'";
  const [attempt] = database.once(`SELECT ${isReadable} AS is_readable FROM koinon_attempt`) as {
    is_readable: number;
  }[];
  if (attempt?.is_readable === 0) return undefined;
  const ids = "SELECT value ->> 'id' AS id FROM koinon_attempt, json_each(body, '$.transactions')";
  return new Set((database.once(ids) as { id: string }[]).map(({ id }) => id));
}

/** Refuses to send from an outbox that is not in order. @throws KoinonError `outbox-inconsistent`. */
export function refuseInconsistent(database: Database): void {
  const problems = orderProblems(database);
  const [first] = problems;
  if (first === undefined) return;
  const more = problems.length > 1 ? ` (and ${problems.length - 1} more)` : '';
  throw new KoinonError(
    'outbox-inconsistent',
    `The list of unsent changes in the replica file is not in order: ${first}${more} Another program may have written the file. Nothing was sent; copy what you need, and open a new replica.`,
    { value: problems },
  );
}

/** The places of the transactions that the server has refused at some time. */
export function onceRefused(database: Database): ReadonlySet<number> {
  const refused = database.once("SELECT place FROM koinon_outbox WHERE kind = 'transaction' AND problems IS NOT NULL");
  return new Set((refused as { place: number }[]).map(({ place }) => place));
}

/** The rows with changes that the feed has not brought back. */
export function changedRows(database: Database): readonly RowKey[] {
  const text = `SELECT DISTINCT table_name AS "table", row_id AS id FROM koinon_outbox
    WHERE table_name IS NOT NULL AND kind <> 'action' AND is_acknowledged = 0`;
  return database.once(text) as RowKey[];
}
