import {
  type AnyRow,
  KoinonError,
  type Only,
  type PulledPage,
  type PulledRow,
  type Schema,
  tableOf,
} from '@koinon/core';
import { parseWhere, predicateOf, rowKey, unfilterable } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import {
  awaitedRows,
  type HoldingState,
  holdingList,
  type StoredHolding,
  singleRow,
} from '../database/holding-list.ts';
import { dropMeta, setMeta } from '../database/layout.ts';
import type { Engine } from '../engine/steps.ts';
import type { Commit } from '../live/commit.ts';
import type { AsksFor } from '../overlay/apply.ts';
import { erase, leave } from '../overlay/leave.ts';
import { holdingsTable } from '../rows/rows.ts';
import type { Local } from './attempt.ts';

// The rows that an app asks to have on this device for a while, beside those that it always asks for. A request asks for all of them together; the
// cursor carries that, so that only differences move.

/** Holdings that a replica may have, and the characters of all of them together: each request carries them. */
const [mostHoldings, mostText] = [100, 100_000];

/** A replica, as far as its holdings need it. */
interface Held {
  readonly database: Database;
  readonly schema: Schema;
}

/** The holdings of a replica, by name. One of a table or column that the app cannot ask for any more is none. */
export function storedHoldings({ database, schema }: Held): readonly StoredHolding[] {
  return holdingList(database).filter(({ from, where }) => {
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
  // Single rows are nobody's list.
  for (const key of new Set([...before.keys(), ...after.keys()]))
    if (singleRow((before.get(key) ?? after.get(key)) as StoredHolding) === undefined)
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
  const named = others.filter((holding) => singleRow(holding) === undefined);
  if (named.length >= mostHoldings)
    throw new KoinonError('too-large', `A replica has at most ${mostHoldings} holdings; let one go first.`);
  const all = [...others, { ...wanted, state }];
  if (JSON.stringify([...named, { ...wanted, state }]).length > mostText)
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
  const asked = merged(holdings.filter(({ state }) => state !== 'dropping'));
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

/** The same, with one condition for all single rows of a table. */
function merged(holdings: readonly StoredHolding[]): readonly Pick<StoredHolding, 'from' | 'where'>[] {
  const ids = new Map<string, string[]>();
  for (const { table, id } of holdings.flatMap((holding) => singleRow(holding) ?? []))
    ids.set(table, [...(ids.get(table) ?? []), id]);
  const singles = [...ids].map(([from, some]) => ({ from, where: { id: { in: some.sort() } } }));
  return [...holdings.filter((holding) => singleRow(holding) === undefined), ...singles];
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

/** Tells rows that a request asks for from others. */
export function asksFor(schema: Schema, { tables, where = {} }: Only): AsksFor {
  const predicates = new Map<string, (row: AnyRow) => boolean>();
  return (name, row) => {
    if (tables?.includes(name) === false) return false;
    if (!Object.hasOwn(where, name)) return true;
    const isAsked = predicates.get(name) ?? predicateOf(parseWhere(name, tableOf(schema, name), where[name]));
    predicates.set(name, isAsked);
    return isAsked(row);
  };
}

const askedKeys = (asked: readonly StoredHolding[]) =>
  new Set(asked.filter(({ state }) => state !== 'dropping').map(keyOf));

/** Tells whether a single row has to be asked for that a request did not ask for. */
export function hasMoreToAsk(local: Local, asked: readonly StoredHolding[]): boolean {
  const keys = askedKeys(asked);
  return storedHoldings(local).some(
    (holding) => singleRow(holding) !== undefined && holding.state === 'arriving' && !keys.has(keyOf(holding)),
  );
}

/** Notes the single rows that a page has brought. */
export function noteSingleRows(
  local: Local,
  asked: readonly StoredHolding[],
  { rows, blocks = [] }: Pick<PulledPage, 'rows' | 'blocks'>,
): void {
  if (awaitedRows(local.database).length === 0) return;
  const named = new Set([
    ...rows.flatMap((row) => (row.kind === 'leave' ? [] : [rowKey(row)])),
    ...blocks.flatMap(({ table, rows: some }) => some.map(([id]) => rowKey({ table, id: id as string }))),
  ]);
  const keys = askedKeys(asked);
  store(
    local,
    storedHoldings(local).map((holding) => {
      const row = singleRow(holding);
      const hasCome =
        row !== undefined && holding.state === 'arriving' && keys.has(keyOf(holding)) && named.has(rowKey(row));
      return hasCome ? { ...holding, state: 'leaving' as const } : holding;
    }),
  );
}

/** Tells whether rows can come or leave now for which nothing calls by itself: where changes arrive live, nothing is pulled. */
export function callsForPull(local: Local): boolean {
  return storedHoldings(local).some(
    (holding) =>
      holding.state === 'dropping' ||
      (holding.state === 'leaving' && !hasUnsentRows(local, holding)) ||
      // A single row is asked for.
      (holding.state === 'arriving' && singleRow(holding) !== undefined),
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
    const row = singleRow(holding);
    if (row !== undefined && holding.state === 'arriving') {
      // It was asked for, and did not come: it is not one of the user's, or is gone.
      leave(local, row.table, row.id, local.outbox.changesOf(row.table, row.id));
      erase(local, [row]);
      return [];
    }
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
function unsentRows(local: Local, holding: StoredHolding): readonly string[] {
  const { database, schema, rows, bases, outbox } = local;
  const { from, where } = holding;
  const row = singleRow(holding);
  if (row !== undefined) {
    const isUnsent = outbox.predictions.has(row.table, row.id) || outbox.hasUnsentChangesOf(row.table, row.id);
    return isUnsent ? [row.id] : [];
  }
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
