import { applyOperation, type Change, wholeRow } from '../change/change.ts';
import type { JsonValue } from '../schema/column.ts';
import type { AnyRow } from '../schema/schema.ts';
import type { Table } from '../schema/table.ts';
import { sameValue } from '../values/compare.ts';

/**
 * A column on which local and remote disagree and no rule decides. `column` is null where the whole row is at stake:
 * one side deleted it and the other changed it; the values are then rows, null for the deleted side.
 */
export interface Disagreement {
  readonly column: string | null;
  readonly base: unknown;
  readonly local: unknown;
  readonly remote: unknown;
}

/** What a merge comes to: the row as the device shows it (null: none), and what is left to a person. */
export interface Merged {
  readonly row: AnyRow | null;
  readonly disagreements: readonly Disagreement[];
}

/**
 * The three-way merge of one row: what the server had (`base`), what the device did to it (`local`, all unconfirmed
 * changes of the row as one), and what the server has now (`remote`). A column only one side changed takes that side's
 * value; the same value on both sides is agreement; counters and sets apply what was done here to what is there.
 * Where both changed a column differently the local value stays on screen and the disagreement is reported.
 */
export function mergeRow(table: Table, base: AnyRow | null, local: Change | undefined, remote: AnyRow | null): Merged {
  if (local === undefined) return { row: remote, disagreements: [] };
  if (local.kind === 'delete') {
    const untouched = remote === null || base === null || changedColumns(table, base, remote).length === 0;
    return { row: null, disagreements: untouched ? [] : [wholeRowOf(base, null, remote)] };
  }
  if (remote === null) {
    // Nobody else has deleted a row that is new here; a row known before was deleted there and edited here.
    if (base === null)
      return { row: local.kind === 'insert' ? wholeRow(table, local.id, local.columns) : null, disagreements: [] };
    const row = edited(table, base, local);
    return { row, disagreements: [wholeRowOf(base, row, null)] };
  }
  const row: Record<string, unknown> = { ...remote };
  const disagreements: Disagreement[] = [];
  for (const [column, mine] of Object.entries(local.columns)) {
    // A row made on both sides: what was not filled in here stands as it was filled in there.
    if (base === null && local.kind === 'insert' && mine === null) continue;
    row[column] = mine;
    const before = base === null ? undefined : base[column];
    const theirs = remote[column];
    if (!sameValue(theirs, before ?? (base === null ? undefined : null)) && !sameValue(theirs, mine))
      disagreements.push({ column, base: before ?? null, local: mine, remote: theirs });
  }
  if (local.kind === 'update')
    for (const [column, operation] of Object.entries(local.operations))
      row[column] = applyOperation(remote[column], operation);
  return { row: wholeRow(table, local.id, row), disagreements };
}

/** The columns in which two images of a row differ. */
export function changedColumns(table: Table, before: AnyRow, after: AnyRow): string[] {
  return Object.keys(table.columns).filter((name) => !sameValue(before[name] ?? null, after[name] ?? null));
}

function edited(table: Table, base: AnyRow, local: Extract<Change, { columns: unknown }>): AnyRow {
  const row: Record<string, unknown> = { ...wholeRow(table, local.id, base), ...local.columns };
  if (local.kind === 'update')
    for (const [column, operation] of Object.entries(local.operations))
      row[column] = applyOperation(base[column], operation);
  return wholeRow(table, local.id, row);
}

function wholeRowOf(base: AnyRow | null, local: AnyRow | null, remote: AnyRow | null): Disagreement {
  return { column: null, base, local, remote };
}

/** A disagreement as people and programs read it. */
export interface Conflict {
  readonly table: string;
  readonly id: string;
  /** Null: the whole row; one side deleted it. */
  readonly column: string | null;
  readonly base: JsonValue;
  readonly local: JsonValue;
  readonly remote: JsonValue;
  /** When each side was edited, RFC 3339, as far as it is known. */
  readonly localAt: string | null;
  readonly remoteAt: string | null;
  /** The user who edited it there, as far as it is known. */
  readonly remoteBy: string | null;
  /** Why the column's rule could not decide; null where it is to ask. */
  readonly reason: string | null;
}
