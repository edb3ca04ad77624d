import { type AnyRow, type Column, type Problem, type RowKey, type Schema, sameValue, tableOf } from '@koinon/core';
import { applyChange, duplicateValue, noSuchReference, quoteName, rowReferenced, toSql } from '@koinon/core/internal';
import type { Database } from '../database/database.ts';
import type { Outbox } from '../outbox/outbox.ts';
import type { Bases } from './base.ts';
import type { Rows } from './rows.ts';

/** The tables in which uniqueness and references are looked up. */
export interface Integrity {
  readonly schema: Schema;
  readonly database: Database;
  readonly rows: Rows;
  readonly bases: Bases;
  readonly outbox: Outbox;
}

/** A row that a transaction touched, and the columns of it that were given. */
export interface Touched {
  readonly table: string;
  readonly id: string;
  readonly columns?: readonly string[];
  /** The row before the last of its changes, where that is known. */
  readonly before?: AnyRow | null;
}

/** The problems of the rows that a transaction touched, at their final values: unique groups, references both ways. */
export function integrityProblems(at: Integrity, touched: Iterable<Touched>): Problem[] {
  const problems: Problem[] = [];
  for (const { table, id, columns = [], before } of touched) {
    const row = at.rows.get(table, id);
    problems.push(
      ...(row === null
        ? stillReferenced(at, { table, id }, before)
        : [...notUnique(at, table, row, columns), ...pointingNowhere(at, table, row)]),
    );
  }
  return problems;
}

function notUnique(
  { schema, database }: Integrity,
  tableName: string,
  row: AnyRow,
  changed: readonly string[],
): Problem[] {
  const table = tableOf(schema, tableName);
  return table.unique.flatMap((group): Problem[] => {
    // As in SQL, null is unlike every value, itself included.
    if (group.some((name) => row[name] === null)) return [];
    const text = `SELECT id FROM ${quoteName(tableName)} WHERE ${group.map((name) => `${quoteName(name)} = ?`).join(' AND ')} AND id <> ? LIMIT 1`;
    const values = group.map((name) => toSql(table.columns[name] as Column, row[name]));
    const twin = database.statement(text).get(...values, row.id) as { id: string } | undefined;
    if (twin === undefined) return [];
    return [duplicateValue(schema, tableName, row, group, changed)];
  });
}

/**
 * References to rows that are not here. One that the server has in the row already is fine: the device need not ask for the row that it names. If
 * that row was deleted here, it is not.
 */
function pointingNowhere(at: Integrity, tableName: string, row: AnyRow): Problem[] {
  const { schema, rows, outbox } = at;
  const table = tableOf(schema, tableName);
  const missing = Object.entries(table.columns).flatMap(([name, { target }]) => {
    if (target === undefined || row[name] === null || rows.has(target, row[name] as string)) return [];
    return [{ name, to: { table: target, id: row[name] as string } }];
  });
  if (missing.length === 0) return [];
  const known = onServer(at, tableName, row);
  return missing.flatMap(({ name, to }): Problem[] => {
    const isKnown = known !== null && sameValue(known[name] ?? null, row[name] ?? null);
    if (isKnown && !outbox.hasChangesOf(to.table, to.id)) return [];
    return [noSuchReference(schema, { table: tableName, id: row.id }, name, to, 'on-this-device')];
  });
}

/** A row as the server has it, as far as this device knows; null for a new one. */
function onServer({ schema, bases, outbox }: Integrity, tableName: string, row: AnyRow | null): AnyRow | null {
  const table = tableOf(schema, tableName);
  if (row === null || table.home === 'device') return null;
  if (!outbox.isOverlaid(tableName, row.id)) return row;
  const confirmed = outbox.changesOf(tableName, row.id).filter(({ state }) => state === 'confirmed');
  return confirmed.reduce((shown, { change }) => applyChange(table, shown, change), bases.get(tableName, row.id));
}

/**
 * References to a row that is not here any more. If nobody has deleted it here, it is as the server has it: gone, or not asked for. Then only
 * references count that the server does not have.
 */
function stillReferenced(at: Integrity, { table, id }: RowKey, row: AnyRow | null | undefined): Problem[] {
  const { schema, database, outbox } = at;
  const isDeletedHere = outbox.hasChangesOf(table, id);
  return Object.entries(schema.tables).flatMap(([otherName, other]) =>
    Object.entries(other.columns).flatMap(([name, { target }]): Problem[] => {
      if (target !== table) return [];
      const text = `SELECT id FROM ${quoteName(otherName)} WHERE ${quoteName(name)} = ?${isDeletedHere ? ' LIMIT 1' : ''}`;
      const referrers = database.statement(text).all(id) as { id: string }[];
      const isOwn = (from: string) =>
        other.home === 'device' ||
        (outbox.isOverlaid(otherName, from) && onServer(at, otherName, at.rows.get(otherName, from))?.[name] !== id);
      if (!referrers.some((referrer) => isDeletedHere || isOwn(referrer.id))) return [];
      return [rowReferenced(schema, { table, id }, row, { table: otherName, column: name })];
    }),
  );
}
