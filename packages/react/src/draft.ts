import type { Replica } from '@koinon/client';
import {
  KoinonError,
  type NewRow,
  type Patch,
  type Problem,
  type Row,
  type Schema,
  sameValue,
  tableOf,
  type WritableTableName,
  withDefaults,
} from '@koinon/core';
import { useCallback, useEffect, useMemo, useSyncExternalStore } from 'react';
import { keyOf, useRow } from './rows.ts';

/** A column that the person has edited, and that has also changed underneath. */
export interface OvertakenColumn {
  readonly column: string;
  /** As it was when the edit began. */
  readonly was: unknown;
  /** As it is now. */
  readonly is: unknown;
}

/** A form over one row: what it shows, what was edited, and what is wrong with it. */
export interface DraftedForm<R> {
  /** The row under the edits; only what is known of it, for a new one. */
  readonly row: Partial<R>;
  /** False while the row is being looked up. */
  readonly ready: boolean;
  /** Tells whether there is such a row; a new one counts. */
  readonly exists: boolean;
  /** Columns that differ from what is stored. */
  readonly changed: readonly string[];
  /** The problems of the edits, as they are or were when they were saved. */
  readonly problems: readonly Problem[];
  /** Edited columns that somebody else has changed meanwhile. */
  readonly overtaken: readonly OvertakenColumn[];
  /** Edits columns; nothing is stored. */
  set(patch: Readonly<Partial<R>>): void;
  /** Stores the edits as one transaction; the row, or undefined when they are refused: then `problems` says why. */
  save(): Promise<R | undefined>;
  /** Drops the edits. */
  drop(): void;
}

interface Edits {
  readonly columns: Readonly<Record<string, unknown>>;
  /** The stored values of the edited columns when their edit began. */
  readonly before: Readonly<Record<string, unknown>>;
  readonly problems: readonly Problem[];
}

const none: Edits = { columns: {}, before: {}, problems: [] };

/** The edits of one form. Outside of React's state, so that saving right after an edit sees it. */
class EditsStore {
  private current = none;
  private readonly listeners = new Set<() => void>();
  /** Which save the problems belong to: an edit made meanwhile is newer. */
  private version = 0;

  readonly snapshot = (): Edits => this.current;
  readonly subscribe = (changed: () => void): (() => void) => {
    this.listeners.add(changed);
    return () => this.listeners.delete(changed);
  };

  set(edits: Edits): number {
    this.current = edits;
    for (const changed of [...this.listeners]) changed();
    return ++this.version;
  }

  isAt(version: number): boolean {
    return this.version === version;
  }
}

/**
 * Edits one row in a draft: nothing is stored before `save`. Without an id it is a new row, which begins with `initial` and
 * the schema's defaults.
 *
 * @example
 * const form = useDraft(replica, 'hive', id)
 * <input value={form.row.mark ?? ''} onChange={(event) => form.set({ mark: event.target.value })} />
 * <button disabled={form.changed.length === 0} onClick={form.save}>Save</button>
 */
export function useDraft<S extends Schema, T extends WritableTableName<S>>(
  replica: Replica<S>,
  table: T,
  id: string | undefined,
  initial: Readonly<Partial<Row<S, T>>> = {} as Partial<Row<S, T>>,
): DraftedForm<Row<S, T>> {
  // Another row is another form.
  const store = useMemo(() => new EditsStore(), [replica, table, id]);
  const edits = useSyncExternalStore(store.subscribe, store.snapshot, store.snapshot);
  const { row: stored, ready } = useRow(replica, table, id);
  const known = stored as Readonly<Record<string, unknown>> | undefined;
  const given = keyOf(initial);
  const base = useMemo(
    (): Readonly<Record<string, unknown>> =>
      id === undefined ? { ...initial, ...withDefaults(tableOf(replica.schema, table), initial) } : (known ?? {}),
    // The same key is the same content.
    [replica, table, id, given, known],
  );

  const check = useCallback(
    async (columns: Readonly<Record<string, unknown>>) => {
      const draft = replica.draft();
      try {
        if (id === undefined) await draft.insert(table, { ...base, ...columns } as NewRow<S, T>);
        else await draft.update(table, id, columns as Patch<S, T>);
        return await draft.check();
      } catch (error) {
        return problemsOf(error);
      } finally {
        draft.discard();
      }
    },
    [replica, table, id, base],
  );

  const set = useCallback(
    (patch: Readonly<Partial<Row<S, T>>>) => {
      const { columns, before, problems } = store.snapshot();
      const touched = Object.entries(patch).filter(([name]) => name !== 'id');
      const next = { ...columns };
      const first = { ...before };
      for (const [name, value] of touched) {
        if (!(name in first)) first[name] = base[name];
        // Typed back to what it was: no edit.
        if (sameValue(value, first[name]) && id !== undefined) {
          delete next[name];
          delete first[name];
        } else next[name] = value;
      }
      const names = new Set(touched.map(([name]) => name));
      const version = store.set({
        columns: next,
        before: first,
        problems: problems.filter(({ column }) => column !== undefined && !names.has(column)),
      });
      // A value that is missing from a new row is told when it is saved, not while it is filled in.
      if (id === undefined || Object.keys(next).length === 0) return;
      void check(next).then((found) => {
        if (store.isAt(version)) store.set({ ...store.snapshot(), problems: found });
      });
    },
    [store, base, check, id],
  );

  const save = useCallback(async () => {
    const { columns, before } = store.snapshot();
    const draft = replica.draft();
    try {
      const row =
        id === undefined
          ? await draft.insert(table, { ...base, ...columns } as NewRow<S, T>)
          : await draft.update(table, id, columns as Patch<S, T>);
      await draft.commit();
      store.set(none);
      return row;
    } catch (error) {
      draft.discard();
      store.set({ columns, before, problems: problemsOf(error) });
      return undefined;
    }
  }, [replica, table, id, base, store]);

  const drop = useCallback(() => void store.set(none), [store]);
  // A form that is left holds nothing back.
  useEffect(() => () => void store.set(none), [store]);

  return useMemo(() => {
    const changed = Object.keys(edits.columns);
    const overtaken =
      known === undefined
        ? []
        : changed
            .filter(
              (column) =>
                !sameValue(known[column], edits.before[column]) && !sameValue(known[column], edits.columns[column]),
            )
            .map((column) => ({ column, was: edits.before[column], is: known[column] }));
    return {
      row: { ...base, ...edits.columns } as Partial<Row<S, T>>,
      ready: id === undefined || ready,
      exists: id === undefined || stored !== undefined,
      changed,
      problems: edits.problems,
      overtaken,
      set,
      save,
      drop,
    };
  }, [base, edits, known, id, ready, stored, set, save, drop]);
}

function problemsOf(error: unknown): readonly Problem[] {
  if (!(error instanceof KoinonError)) throw error;
  if (error.problems.length > 0) return error.problems;
  const { code, message, column } = error;
  return [{ code, message, ...(column === undefined ? {} : { column }) }];
}
