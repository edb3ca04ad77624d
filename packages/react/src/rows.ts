import type { Replica } from '@koinon/client';
import type { Joins, Query, ResultRow, Row, Schema, TableName } from '@koinon/core';
import { useEffect, useMemo, useRef } from 'react';
import { Screen, type Shown, useScreen } from './live.ts';

/** Options of {@link useRows}. */
export interface RowsOptions {
  /** The rows that are shown until the first result of a changed query is there: none, or the last result. Default none. */
  readonly meanwhile?: 'nothing' | 'last';
}

/** The result of {@link useRow}. */
export interface ShownRow<R> {
  /** The row; undefined if there is none, or while it is not known. */
  readonly row: R | undefined;
  readonly ready: boolean;
  readonly error: Error | undefined;
}

/** The question of a query, as a text. */
export function keyOf(query: unknown): string {
  return JSON.stringify(query, (_name, value: unknown) =>
    value instanceof Uint8Array
      ? { bytes: Array.from(value, (byte) => byte.toString(16)).join() }
      : typeof value === 'bigint'
        ? { whole: String(value) }
        : value,
  );
}

/** Tells whether a condition compares with what is not known yet. */
function hasUndefined(condition: unknown): boolean {
  if (typeof condition !== 'object' || condition === null || ArrayBuffer.isView(condition)) return false;
  return Object.values(condition).some((member) => member === undefined || hasUndefined(member));
}

/** The queries on screen, by replica and what they ask, so that the same question has one answer at a time. */
const shared = new WeakMap<object, Map<string, Screen<never>>>();

function screenOf<R>(replica: object, key: string, make: () => ConstructorParameters<typeof Screen<R>>[0]): Screen<R> {
  let screens = shared.get(replica);
  if (screens === undefined) {
    screens = new Map();
    shared.set(replica, screens);
  }
  const known = screens.get(key) as Screen<R> | undefined;
  if (known) return known;
  const all = screens;
  const screen: Screen<R> = new Screen<R>(make(), (isUsed) => {
    if (isUsed) all.set(key, screen as unknown as Screen<never>);
    else if (all.get(key) === (screen as unknown)) all.delete(key);
  });
  all.set(key, screen as unknown as Screen<never>);
  return screen;
}

/**
 * The rows a query asks for, kept up with every change from here or elsewhere. The query may be written anew at each
 * render: it is compared by its content. Without one, or while a value in its `where` is undefined, nothing is asked: there are
 * no rows, and they are not ready.
 *
 * @example
 * const { rows, ready } = useRows(replica, { from: 'hive', where: { site }, order: 'mark' })
 */
export function useRows<
  S extends Schema,
  T extends TableName<S>,
  C extends Extract<keyof Row<S, T>, string> = Extract<keyof Row<S, T>, string>,
  const J extends Joins<S, T> = Record<never, never>,
>(
  replica: Replica<S>,
  query: Query<S, T, C, J> | undefined,
  { meanwhile = 'nothing' }: RowsOptions = {},
): Shown<ResultRow<S, T, C, J>> {
  // A value that is not known yet: there is nothing to ask.
  const key = query === undefined || hasUndefined(query.where) ? undefined : keyOf(query);
  const screen = useMemo(
    () => (key === undefined || query === undefined ? undefined : screenOf(replica, key, () => replica.live(query))),
    // The same key is the same query.
    [replica, key],
  );
  const shown = useScreen(screen);
  const last = useRef(shown);
  useEffect(() => {
    if (shown.ready) last.current = shown;
  });
  if (meanwhile === 'last' && !shown.ready && shown.error === undefined && last.current.ready)
    return { ...last.current, ready: false };
  return shown;
}

/**
 * One row by its id, kept up with every change.
 *
 * @example
 * const { row: hive, ready } = useRow(replica, 'hive', id)
 */
export function useRow<S extends Schema, T extends TableName<S>>(
  replica: Replica<S>,
  table: T,
  id: string | undefined,
): ShownRow<Row<S, T>> {
  const query = id === undefined ? undefined : ({ from: table, where: { id } } as unknown as Query<S, T>);
  const { rows, ready, error } = useRows<S, T>(replica, query);
  return { row: rows[0] as Row<S, T> | undefined, ready, error };
}
