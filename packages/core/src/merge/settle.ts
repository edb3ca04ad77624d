import { type Change, joinChanges, wholeRow } from '../change/change.ts';
import type { Column, JsonValue } from '../schema/column.ts';
import type { AnyRow } from '../schema/schema.ts';
import type { Table } from '../schema/table.ts';
import { checkValue, kept } from '../values/check.ts';
import { sameValue } from '../values/compare.ts';
import { toWire } from '../values/wire.ts';
import { mergeLines } from './lines.ts';
import { type Disagreement, mergeRow } from './merge.ts';
import type { AnyMergeRule, Sides } from './rules.ts';

/** When each side last edited a column, in milliseconds since 1970 by the server's clock; undefined where that is not known. */
export interface EditTimes {
  readonly local: (column: string) => number;
  readonly remote: (column: string) => number | undefined;
}

/** A disagreement that a person is to decide. */
export interface OpenDisagreement extends Disagreement {
  /** Why the column's rule could not decide; null where the rule is to ask. */
  readonly reason: string | null;
}

/** What the rules make of one row. */
export interface Settlement {
  /** The row as the device shows it. */
  readonly row: AnyRow | null;
  /** What is left to a person. */
  readonly open: readonly OpenDisagreement[];
  /** What the device now does to the server's row, as one change; undefined: nothing. */
  readonly local: Change | undefined;
  /** Columns that a rule decided; null for the whole row. */
  readonly settled: ReadonlySet<string | null>;
}

/**
 * The three-way merge of one row with its table's rules: {@link mergeRow}, and for what that leaves open the rule of the
 * column, of its table, or of its type. A pure function; merging its outcome again changes nothing.
 *
 * @param image what the server's row held when it was deleted there, where that is known: an edit that survives is laid
 *   over it.
 */
export function mergeByRules(
  table: Table,
  base: AnyRow | null,
  local: Change | undefined,
  remote: AnyRow | null,
  times: EditTimes,
  image: AnyRow | null = null,
): Settlement {
  const { row, disagreements } = mergeRow(table, base, local, remote);
  const settled = new Set<string | null>();
  if (local === undefined) return { row, open: [], local, settled };
  // Deleted on both sides: whatever was done before that here has no row to go to.
  if (local.kind === 'delete' && remote === null) return { row, open: [], local: undefined, settled };
  const [first] = disagreements;
  if (first?.column === null) {
    if (table.deletion === 'ask') return { row, open: [{ ...first, reason: null }], local, settled };
    settled.add(null);
    const keepsLocal = (local.kind === 'delete') === (table.deletion === 'deletion wins');
    if (!keepsLocal) return { row: remote, open: [], local: undefined, settled };
    if (local.kind === 'delete') return { row: null, open: [], local, settled };
    const revived = joinChanges(table, newRow(local, image ?? (base as AnyRow)), local) as Change & { kind: 'insert' };
    return { row: wholeRow(table, local.id, revived.columns), open: [], local: revived, settled };
  }
  if (local.kind === 'delete' || row === null) return { row, open: [], local, settled };

  const columns: Record<string, unknown> = { ...local.columns };
  const shown: Record<string, unknown> = { ...row };
  const open: OpenDisagreement[] = [];
  for (const disagreement of disagreements) {
    const name = disagreement.column as string;
    // Changed and changed back is no change: the other side stands.
    const isBack = base !== null && sameValue(base[name] ?? null, local.columns[name]);
    const decided = isBack
      ? { value: disagreement.remote }
      : decide(table, name, disagreement as Sides<unknown> & Disagreement, times);
    if ('reason' in decided) open.push({ ...disagreement, reason: decided.reason });
    else {
      settled.add(name);
      shown[name] = decided.value;
      columns[name] = decided.value;
    }
  }
  return {
    row: wholeRow(table, local.id, shown),
    open,
    local: whatIsLeft(local, columns, base, remote, settled),
    settled,
  };
}

/** What the device still has to do to the server's row: what a rule took from there it leaves. */
function whatIsLeft(
  local: Exclude<Change, { kind: 'delete' }>,
  columns: Readonly<Record<string, unknown>>,
  base: AnyRow | null,
  remote: AnyRow | null,
  settled: ReadonlySet<string | null>,
): Change | undefined {
  const { table, id } = local;
  if (remote === null) return local;
  if (local.kind === 'insert' && base !== null) return { ...local, columns };
  // A row of the same id was made on both sides: here it changes the one that is there.
  const isNew = local.kind === 'insert';
  const wanted = Object.fromEntries(
    Object.entries(columns).filter(
      ([name, value]) =>
        !(isNew || settled.has(name)) ||
        !(sameValue(remote[name], value) || (isNew && base === null && value === null)),
    ),
  );
  const operations = local.kind === 'update' ? local.operations : {};
  if (Object.keys(wanted).length === 0 && Object.keys(operations).length === 0) return undefined;
  return { kind: 'update', table, id, columns: wanted, operations };
}

function newRow({ table, id }: Change, { id: _, ...columns }: AnyRow): Change {
  return { kind: 'insert', table, id, columns };
}

type Decision = { readonly value: unknown } | { readonly reason: string | null };

const ask: Decision = { reason: null };

function decide(table: Table, name: string, sides: Sides<unknown>, times: EditTimes): Decision {
  const column = table.columns[name] as Column;
  const rule = ruleOf(table, column);
  const { base, local, remote } = sides;
  if (rule === 'keep local') return { value: local };
  if (rule === 'keep remote') return { value: remote };
  if (rule === 'newest') return newest(column, sides, times.local(name), times.remote(name));
  if (rule === 'by line') {
    const texts = [base ?? '', local, remote];
    if (!texts.every((side) => typeof side === 'string')) return ask;
    const [before, mine, theirs] = texts as [string, string, string];
    const joined = mergeLines(before, mine, theirs);
    return joined === undefined ? ask : checked(column, joined, 'joining its lines');
  }
  if (rule === 'by member') {
    const joined = mergeMembers(base as JsonValue, local as JsonValue, remote as JsonValue);
    return joined === undefined ? ask : { value: joined };
  }
  if (typeof rule === 'function') {
    try {
      const value = (rule as (sides: Sides<unknown>) => unknown)(sides);
      return checked(column, value, 'its merge function');
    } catch (error) {
      return { reason: `its merge function failed: ${(error as Error)?.message ?? String(error)}` };
    }
  }
  return ask;
}

/** The rule of a column: its own, its table's, or what its type brings. */
export function ruleOf(table: Table, column: Column): AnyMergeRule {
  return (
    column.merge ?? table.merge ?? (column.type === 'text' ? 'by line' : column.type === 'json' ? 'by member' : 'ask')
  );
}

function checked(column: Column, value: unknown, by: string): Decision {
  const wrong = value === undefined ? { rule: 'a value is required' } : checkValue(column, value);
  return wrong
    ? { reason: `${by} came to a value that the column does not take: ${wrong.rule}` }
    : { value: kept(column, value) };
}

/** Two edits of the same millisecond must end alike whichever device compares them: the greater text is taken. */
function newest(column: Column, { local, remote }: Sides<unknown>, mine: number, theirs: number | undefined): Decision {
  if (theirs === undefined) return { reason: 'it is not known when the server’s value was edited' };
  if (mine !== theirs) return { value: mine > theirs ? local : remote };
  const [a, b] = [local, remote].map((value) => JSON.stringify(toWire(column, value))) as [string, string];
  return { value: a > b ? local : remote };
}

const isObject = (value: JsonValue | undefined): value is { readonly [member: string]: JsonValue } =>
  typeof value === 'object' && value !== null && !Array.isArray(value);

/** JSON objects joined member by member, objects inside them likewise; undefined where both changed one member differently. */
function mergeMembers(base: JsonValue, local: JsonValue, remote: JsonValue): JsonValue | undefined {
  if (!isObject(local) || !isObject(remote)) return undefined;
  const before = isObject(base) ? base : {};
  const joined: Record<string, JsonValue> = {};
  for (const member of new Set([...Object.keys(remote), ...Object.keys(local)])) {
    const own = <T>(object: { readonly [member: string]: T }) =>
      Object.hasOwn(object, member) ? object[member] : undefined;
    const [was, mine, theirs] = [own(before), own(local), own(remote)];
    let value: JsonValue | undefined;
    if (same(mine, theirs) || same(was, theirs)) value = mine;
    else if (same(was, mine)) value = theirs;
    else {
      value = mergeMembers(was ?? null, mine ?? null, theirs ?? null);
      if (value === undefined) return undefined;
    }
    if (value !== undefined)
      Object.defineProperty(joined, member, { value, enumerable: true, configurable: true, writable: true });
  }
  return joined;
}

function same(a: JsonValue | undefined, b: JsonValue | undefined): boolean {
  return a === undefined || b === undefined ? a === b : sameValue(a, b);
}
