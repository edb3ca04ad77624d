import { type AnyRow, KoinonError, type Only, type PulledRow, type Schema, tableOf } from '@koinon/core';
import { parseWhere, predicateOf, unfilterable } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import { dropMeta, meta, setMeta } from '../database/layout.ts';
import type { Engine } from '../engine/steps.ts';
import type { Commit } from '../live/commit.ts';
import type { Local } from './attempt.ts';

// The rows that an app asks to have on this device for a while, beside those that it always asks for. A request asks for all of them together; the
// cursor carries that, so that only differences move.

/**
 * The state of a holding: its rows are `arriving`; they are `here`; it was let go and something of its rows is unsent, so that it is still asked for:
 * `leaving`; it is asked for no more, and a download is to take its rows away: `dropping`.
 */
export type HoldingState = 'arriving' | 'here' | 'leaving' | 'dropping';

/** A holding as the file keeps it. */
export interface StoredHolding {
  readonly name: string;
  readonly from: string;
  /** The condition; null for all rows of the table. */
  readonly where: Readonly<Record<string, unknown>> | null;
  readonly state: HoldingState;
}

/** Holdings that a replica may have, and the characters of all of them together: each request carries them. */
const [mostHoldings, mostText] = [100, 100_000];

/** The name under which changes of the list are told to those who follow it. */
export const holdingsTable = 'koinon_holding';

/** A replica, as far as its holdings need it. */
interface Held {
  readonly database: Database;
  readonly schema: Schema;
}

/** The holdings of a replica, by name. One of a table or column that the app cannot ask for any more is none. */
export function storedHoldings({ database, schema }: Held): readonly StoredHolding[] {
  const stored = JSON.parse(meta(database, 'holdings') ?? '[]') as StoredHolding[];
  return stored.filter(({ from, where }) => {
    try {
      refuseUnfilterable(schema, from, where ?? undefined);
      return true;
    } catch {
      return false;
    }
  });
}

/** A name stands for what is asked for under it, and for what was before and has not left yet. */
const keyOf = ({ name, from, where }: StoredHolding) => JSON.stringify([name, from, where]);

function store(local: Held & { readonly commit: Commit }, holdings: readonly StoredHolding[]): void {
  const byKey = (list: readonly StoredHolding[]) => new Map(list.map((holding) => [keyOf(holding), holding]));
  const [before, after] = [byKey(storedHoldings(local)), byKey(holdings)];
  const sorted = [...after.values()].sort((a, b) => (keyOf(a) < keyOf(b) ? -1 : 1));
  if (sorted.length === 0) dropMeta(local.database, 'holdings');
  else setMeta(local.database, 'holdings', JSON.stringify(sorted));
  const row = (key: string, holding: StoredHolding | undefined): AnyRow | null =>
    holding ? { id: key, ...holding } : null;
  for (const key of new Set([...before.keys(), ...after.keys()]))
    local.commit.note(holdingsTable, key, row(key, before.get(key)), row(key, after.get(key)));
}

/** Notes that rows are to be held; says whether anything has to move for it. @throws KoinonError for a condition that cannot be asked for. */
export function hold(engine: Engine, only: Only, name: string, from: string, where: unknown): boolean {
  const { schema } = engine;
  refuseUnfilterable(schema, from, where);
  const table = tableOf(schema, from);
  const wanted = { name, from, where: (where ?? null) as StoredHolding['where'] };
  let state: HoldingState = 'arriving';
  const others = storedHoldings(engine).flatMap((holding): StoredHolding[] => {
    if (holding.name !== name) return [holding];
    // Anything else under the name leaves, as if it had been let go.
    if (keyOf(holding) !== keyOf({ ...wanted, state }))
      return [isActive(holding) ? { ...holding, state: 'leaving' } : holding];
    // One that was let go may not have come whole before that.
    if (isActive(holding)) state = holding.state;
    return [];
  });
  if (others.length >= mostHoldings)
    throw new KoinonError('too-large', `A replica has at most ${mostHoldings} holdings; let one go first.`);
  const all = [...others, { ...wanted, state }];
  if (JSON.stringify(all).length > mostText)
    throw new KoinonError(
      'too-large',
      `The conditions of all holdings have more than ${mostText} characters; let one go, or hold fewer rows by id.`,
    );
  // All conditions of a table together are one condition, which must not be too large either.
  const merged = askedWith(only, all).where?.[from];
  if (merged !== undefined) parseWhere(from, table, merged);
  store(engine, all);
  return state === 'arriving';
}

/** Tells whether the app asks for a holding: it has not let it go. */
export const isActive = ({ state }: StoredHolding): boolean => state === 'arriving' || state === 'here';

/** Refuses what a server cannot be asked for. @throws KoinonError `unknown-table`, `unknown-column`, `query-invalid`, `argument-invalid`. */
export function refuseUnfilterable(schema: Schema, from: string, where: unknown): void {
  const table = tableOf(schema, from);
  if (table.home === 'device')
    throw new KoinonError('argument-invalid', `${from} is a table of this device alone; nothing of it is fetched.`, {
      table: from,
    });
  const column = unfilterable(table.filterable, parseWhere(from, table, where));
  if (column === undefined) return;
  throw new KoinonError(
    'query-invalid',
    `Rows of ${from} cannot be asked for by ${column}: the schema does not declare it filterable.`,
    { table: from, column },
  );
}

/** The request that tells how much some rows of a table are. */
export function partOf({ columns }: Only, { from, where }: { readonly from: string; readonly where?: unknown }): Only {
  const condition = where as Readonly<Record<string, unknown>> | undefined;
  return { ...(columns && { columns }), tables: [from], ...(condition && { where: { [from]: condition } }) };
}

/** Notes that rows are not to be held any more. False where there is no holding of that name. */
export function letGo(engine: Engine, name: string): boolean {
  const holdings = storedHoldings(engine);
  const isMeant = (holding: StoredHolding) => holding.name === name && isActive(holding);
  if (!holdings.some(isMeant)) return false;
  store(
    engine,
    holdings.map((holding) => (isMeant(holding) ? { ...holding, state: 'leaving' as const } : holding)),
  );
  return true;
}

/** The part that is asked for, with the holdings. */
export function askedWith(only: Only, holdings: readonly StoredHolding[]): Only {
  const asked = holdings.filter(({ state }) => state !== 'dropping');
  if (asked.length === 0) return only;
  const tables = only.tables && [...new Set([...only.tables, ...asked.map(({ from }) => from)])];
  const where: Record<string, unknown> = { ...only.where };
  for (const from of new Set(asked.map((holding) => holding.from))) {
    const isAlways = only.tables === undefined || only.tables.includes(from);
    const always = only.where?.[from];
    const held = asked.filter((holding) => holding.from === from).map((holding) => holding.where);
    // All rows of the table are asked for.
    if ((isAlways && always === undefined) || held.includes(null)) delete where[from];
    else {
      const conditions = [...(isAlways && always ? [always] : []), ...held.flatMap((one) => one ?? [])];
      where[from] = conditions.length === 1 ? conditions[0] : { or: conditions };
    }
  }
  const { where: _static, ...rest } = only;
  return { ...rest, ...(tables && { tables }), ...(Object.keys(where).length > 0 && { where }) };
}

/** The part that a request asks for, and the holdings as they were then. */
export interface AskedPart {
  readonly only: Only;
  readonly holdings: readonly StoredHolding[];
}

/** The part to ask for from now on. Holdings that were let go, and of whose rows nothing is unsent, are not. */
export function partAsked(local: Local, only: Only): AskedPart {
  const before = storedHoldings(local);
  if (before.length === 0) return { only, holdings: before };
  const holdings = before.map((holding) =>
    holding.state === 'leaving' && !hasUnsentRows(local, holding)
      ? { ...holding, state: 'dropping' as const }
      : holding,
  );
  if (JSON.stringify(holdings) !== JSON.stringify(before)) store(local, holdings);
  return { only: askedWith(only, holdings), holdings };
}

/** Tells whether rows can leave now for which nothing calls by itself: where changes arrive live, nothing is pulled. */
export function canLeave(local: Local): boolean {
  return storedHoldings(local).some(
    (holding) => holding.state === 'dropping' || (holding.state === 'leaving' && !hasUnsentRows(local, holding)),
  );
}

/** A download has ended that asked for this part: what was to come is here, and what was to go is gone. */
export function noteArrived(local: Local, asked: readonly StoredHolding[]): void {
  if (asked.length === 0) return;
  const texts = new Set(asked.map((holding) => JSON.stringify(holding)));
  const before = storedHoldings(local);
  const after = before.flatMap((holding) => {
    if (!texts.has(JSON.stringify(holding))) return [holding];
    if (holding.state === 'dropping') return [];
    return [holding.state === 'arriving' ? { ...holding, state: 'here' as const } : holding];
  });
  if (JSON.stringify(after) !== JSON.stringify(before)) store(local, after);
}

/**
 * A person edited a row while the answer that takes it away was on its way: its holding is asked for again, until the edit is sent. True where that is
 * so; the page is not taken in then.
 */
export function keepsUnsent(local: Local, rows: readonly PulledRow[]): boolean {
  const holdings = storedHoldings(local);
  const dropping = holdings.filter(({ state }) => state === 'dropping');
  if (dropping.length === 0) return false;
  const leaving = new Set(rows.flatMap(({ kind, table, id }) => (kind === 'leave' ? [`${table} ${id}`] : [])));
  const kept = dropping.filter((holding) =>
    unsentRows(local, holding).some((id) => leaving.has(`${holding.from} ${id}`)),
  );
  if (kept.length === 0) return false;
  store(
    local,
    holdings.map((holding) => (kept.includes(holding) ? { ...holding, state: 'leaving' as const } : holding)),
  );
  return true;
}

const hasUnsentRows = (local: Local, holding: StoredHolding) => unsentRows(local, holding).length > 0;

/** The rows of a holding that have changes which the server has not confirmed. */
function unsentRows(local: Local, { from, where }: StoredHolding): readonly string[] {
  const { database, schema, rows, bases, outbox } = local;
  const table = Object.hasOwn(schema.tables, from) ? schema.tables[from] : undefined;
  if (table === undefined) return [];
  const found = database
    .statement(
      `SELECT DISTINCT change.row_id AS id FROM koinon_outbox AS change LEFT JOIN koinon_outbox AS head ON head.place = change.sequence
        WHERE change.table_name = ? AND coalesce(head.state, change.state, 'pending') IN ('pending', 'attempted', 'rejected')`,
    )
    .all(from) as { id: string }[];
  const isHeld = predicateOf(parseWhere(from, table, where ?? undefined));
  const predicted = outbox.predictions.rows().filter(({ table: name }) => name === from);
  return [...found, ...predicted].flatMap(({ id }) => {
    const row = bases.get(from, id) ?? rows.get(from, id);
    return row && isHeld(row) ? [id] : [];
  });
}
