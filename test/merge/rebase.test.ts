import { type AnyRow, type Change, counter, integer, sameValue, setOfText, table, text } from '@koinon/core';
import { applyChange, type OwnChange, rebase, unmoved, wholeRow } from '@koinon/core/internal';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { runs } from '../support/runs.ts';

// The laws of the rebase, on every row and series of edits that can be made up.

fc.configureGlobal(runs(300));

const hive = table({
  title: text({ default: '', merge: 'ask' }),
  notes: text({ default: '' }),
  mass: integer({ default: 0, merge: 'newest' }),
  own: text({ default: '', merge: 'ask' }),
  frames: counter(),
  marks: setOfText(),
});
const lines = fc.array(fc.constantFrom('a', 'b', 'c'), { minLength: 3, maxLength: 5 }).map((each) => each.join('\n'));
const values = {
  title: fc.constantFrom('', 'x', 'y', 'z'),
  notes: lines,
  mass: fc.nat(3),
};
const row = fc
  .record({ ...values, frames: fc.nat(9) })
  .map((columns) => wholeRow(hive, 'h', { ...columns, own: '', marks: [] }));
const update = (columns: object, operations: object = {}): Change => ({
  kind: 'update',
  table: 'hive',
  id: 'h',
  columns: columns as Record<string, unknown>,
  operations: operations as never,
});
const edit = fc.oneof(
  { weight: 6, arbitrary: fc.record(values, { requiredKeys: [] }).map((columns) => update(columns)) },
  { weight: 2, arbitrary: fc.integer({ min: 1, max: 5 }).map((add) => update({}, { frames: { add } })) },
  { weight: 2, arbitrary: fc.constantFrom('p', 'q').map((own) => update({ own })) },
);
const series = fc.array(edit, { minLength: 1, maxLength: 6 });
const moves = fc.array(row, { minLength: 1, maxLength: 3 });
const remote = { ...unmoved, editedAt: () => 50, time: 100 };

/** The edits as an app makes them from a row on: without what changes nothing. */
function typed(base: AnyRow, edits: readonly Change[]): OwnChange[] {
  let now: AnyRow = base;
  return edits.flatMap((change, i): OwnChange[] => {
    if (change.kind !== 'update') return [];
    const columns = Object.entries(change.columns).filter(([name, value]) => !sameValue(now[name], value));
    const own = update(Object.fromEntries(columns), change.operations);
    if (columns.length === 0 && Object.keys(change.operations).length === 0) return [];
    now = applyChange(hive, now, own) as AnyRow;
    return [{ change: own, isFixed: false, editedAt: i * 20 }];
  });
}

const after = (base: AnyRow | null, changes: readonly { readonly change: Change | undefined }[]) =>
  changes.reduce((now, { change }) => (change ? applyChange(hive, now, change) : now), base);
const left = (own: readonly OwnChange[], { changes }: ReturnType<typeof rebase>): OwnChange[] =>
  changes.flatMap(({ change, typedOver }, i) => (change ? [{ ...(own[i] as OwnChange), change, typedOver }] : []));

test('moved from base to base, the changes that are left lead from the new base to what is shown, and moving again changes nothing', () =>
  fc.assert(
    fc.property(row, series, moves, (first, edits, bases) => {
      let base = first;
      let own = typed(base, edits);
      for (const next of bases) {
        const moved = rebase(hive, own, base, next, remote);
        expect({ ...after(next, moved.changes) }).toEqual({ ...moved.row });
        own = left(own, moved);
        const again = rebase(hive, own, next, next, unmoved);
        expect(again.changes.map(({ change }) => change)).toEqual(own.map(({ change }) => change));
        expect({ ...again.row }).toEqual({ ...moved.row });
        expect(again.conflicts.map(({ column }) => column)).toEqual(moved.conflicts.map(({ column }) => column));
        base = next;
      }
    }),
  ));

test('what a change comes to does not depend on those after it; a column that no change names is the server’s', () =>
  fc.assert(
    fc.property(row, series, row, (base, edits, next) => {
      const own = typed(base, edits);
      const whole = rebase(hive, own, base, next, remote);
      for (let length = 0; length <= own.length; length++) {
        const prefix = rebase(hive, own.slice(0, length), base, next, remote);
        expect(prefix.changes).toEqual(whole.changes.slice(0, length));
        const named = new Set(
          own
            .slice(0, length)
            .flatMap(({ change }) =>
              change.kind === 'update' ? [...Object.keys(change.columns), ...Object.keys(change.operations)] : [],
            ),
        );
        for (const name of hive.names) if (!named.has(name)) expect(prefix.row?.[name]).toEqual(next[name]);
      }
    }),
  ));

test('where a person is to be asked, what was typed is still there, or is what the server has; what only one side edits is never asked about', () =>
  fc.assert(
    fc.property(row, series, row, (base, edits, next) => {
      const own = typed(base, edits);
      const { row: shown, conflicts } = rebase(hive, own, base, next, remote);
      const last = (name: string) =>
        own.findLast(({ change }) => change.kind === 'update' && Object.hasOwn(change.columns, name))?.change;
      const asked = new Set(conflicts.map(({ column }) => column));
      const title = last('title');
      if (title?.kind === 'update') expect([title.columns.title, next.title]).toContain(shown?.title);
      // Nobody else writes it.
      expect(asked.has('own')).toBe(false);
      const mine = last('own');
      if (mine?.kind === 'update') expect(shown?.own).toBe(mine.columns.own);
      const added = own.reduce(
        (sum, { change }) =>
          sum + ((change as { operations?: { frames?: { add: number } } }).operations?.frames?.add ?? 0),
        0,
      );
      expect(shown?.frames).toBe((next.frames as number) + added);
    }),
  ));

test('where the server changed other columns, every change stays as it is: what the fast path does', () =>
  fc.assert(
    fc.property(row, series, row, (base, edits, other) => {
      const own = typed(base, edits);
      const named = new Set(
        own.flatMap(({ change }) =>
          change.kind === 'update' ? [...Object.keys(change.columns), ...Object.keys(change.operations)] : [],
        ),
      );
      const theirs = Object.fromEntries(
        hive.names.filter((name) => !named.has(name)).map((name) => [name, other[name]]),
      );
      const next = wholeRow(hive, 'h', { ...base, ...theirs });
      const moved = rebase(hive, own, base, next, remote);
      expect(moved.changes.map(({ change }) => change)).toEqual(own.map(({ change }) => change));
      expect({ ...moved.row }).toEqual({ ...after(base, own), ...theirs });
      expect(moved.conflicts).toEqual([]);
    }),
  ));
