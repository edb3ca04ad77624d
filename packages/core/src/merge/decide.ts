import { ruleText } from '../schema/message.ts';
import type { Column, JsonValue } from '../table/column.ts';
import type { AnyMergeRule, Sides } from '../table/rules.ts';
import type { Table } from '../table/table.ts';
import { checkValue, normalize } from '../values/check.ts';
import { sameValue } from '../values/compare.ts';
import { toWire } from '../values/wire.ts';
import { mergeLines } from './lines.ts';

/** A value, or why there is none. */
export type Decision = { readonly value: unknown } | { readonly reason: string | null };

const ask: Decision = { reason: null };

/**
 * The value that the rule of a column makes of one that both sides changed.
 *
 * @param localAt when each side last edited it, in milliseconds since 1970; undefined where that is not known.
 */
export function decide(
  table: Table,
  column: Column,
  sides: Sides<unknown>,
  localAt: number,
  remoteAt: number | undefined,
): Decision {
  const rule = ruleOf(table, column);
  const { base, local, remote } = sides;
  if (rule === 'keep local') return { value: local };
  if (rule === 'keep remote') return { value: remote };
  if (rule === 'newest') return newest(column, sides, localAt, remoteAt);
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
  const wrong = value === undefined ? { rule: 'required' as const, parameters: {} } : checkValue(column, value);
  return wrong
    ? { reason: `${by} came to a value that the column does not take: ${ruleText(wrong)}` }
    : { value: normalize(column, value) };
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
