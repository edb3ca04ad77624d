import { type AnyRow, type Change, counter, integer, json, setOfText, type Table, table, text } from '@koinon/core';
import { applyChange, joinChanges, rebase, unmoved, wholeRow } from '@koinon/core/internal';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { runs } from '../support/runs.ts';

// The laws of the merge, on every row and pair of edits that can be made up.

fc.configureGlobal(runs(100));

const hive = table(
  {
    mark: text({ optional: true }),
    strength: integer({ optional: true }),
    label: json({ optional: true }),
    frames: counter(),
    tags: setOfText(),
  },
  { merge: 'ask' },
);
/** The merge of one change of this device, and of none. */
const merged = (definition: Table, base: AnyRow, local: Change | undefined, remote: AnyRow, mine = 0, theirs = 0) => {
  const own = local ? [{ change: local, isFixed: false, editedAt: mine }] : [];
  const { row, conflicts, changes } = rebase(definition, own, base, remote, { ...unmoved, editedAt: () => theirs });
  return { row, disagreements: conflicts, left: changes[0]?.change };
};
const mergeRow = (definition: Table, base: AnyRow, local: Change | undefined, remote: AnyRow) =>
  merged(definition, base, local, remote);
const plainValues = {
  mark: fc.constantFrom(null, 'A', 'B', ''),
  strength: fc.constantFrom(null, 0, 1, 2),
  label: fc.constantFrom(null, { a: 1, b: [2] }, { b: [2], a: 1 }, 'x'),
};
const member = fc.constantFrom('calm', 'old', 'swarmed');
const members = fc.uniqueArray(member, { maxLength: 3 });
const row = fc
  .record({ ...plainValues, frames: fc.nat(9), tags: members })
  .map((columns) => wholeRow(hive, 'h1', { ...columns, tags: [...columns.tags].sort() }));
const operations = fc
  .record(
    {
      frames: fc.integer({ min: -3, max: 9 }).map((add) => ({ add })),
      tags: fc
        .tuple(members, members)
        .map(([include, exclude]) => ({ include, exclude: exclude.filter((m) => !include.includes(m)) })),
    },
    { requiredKeys: [] },
  )
  .map((given) => Object.fromEntries(Object.entries(given)));
const edit = fc
  .record({ columns: fc.record(plainValues, { requiredKeys: [] }), operations })
  .map(({ columns, operations }): Change => ({ kind: 'update', table: 'hive', id: 'h1', columns, operations }));
const after = (base: AnyRow, ...changes: Change[]) =>
  changes.reduce<AnyRow | null>((row, change) => applyChange(hive, row, change), base) as AnyRow;
const joined = (...changes: Change[]) =>
  changes.reduce<Change | undefined>((all, change) => joinChanges(hive, all, change), undefined) as Change;
const plain = (row: AnyRow | null) => row && { ...row };
/** An edit as an app makes one: what it sets is not what was there. */
const real = (base: AnyRow, change: Change): Change => {
  if (change.kind !== 'update') return change;
  const columns = Object.entries(change.columns).filter(([name, value]) => !same(base[name], value));
  return { ...change, columns: Object.fromEntries(columns) };
};

test('no change on one side: the other side stands', () =>
  fc.assert(
    fc.property(row, edit, row, (base, local, remote) => {
      expect(mergeRow(hive, base, undefined, remote)).toMatchObject({ row: remote, disagreements: [] });
      const { row: shown, disagreements } = mergeRow(hive, base, local, base);
      expect(plain(shown)).toEqual(plain(after(base, local)));
      expect(disagreements).toEqual([]);
    }),
  ));

test('the same change on both sides is agreement', () =>
  fc.assert(
    fc.property(row, fc.record(plainValues, { requiredKeys: [] }), (base, columns) => {
      const local: Change = { kind: 'update', table: 'hive', id: 'h1', columns, operations: {} };
      const remote = after(base, local);
      expect(mergeRow(hive, base, local, remote)).toMatchObject({ row: remote, disagreements: [] });
    }),
  ));

test('what was typed stands on screen; what is asked is exactly where both changed a column, and differently', () =>
  fc.assert(
    fc.property(row, edit, edit, (base, given, theirs) => {
      const local = real(base, given);
      const remote = after(base, theirs);
      const { row: shown, disagreements } = mergeRow(hive, base, local, remote);
      if (local.kind !== 'update') return;
      for (const [column, value] of Object.entries(local.columns)) expect(shown?.[column]).toEqual(value);
      for (const name of Object.keys(plainValues))
        if (!(name in local.columns)) expect(shown?.[name]).toEqual(remote[name]);
      const asked = disagreements.map(({ column }) => column);
      const expected = Object.keys(local.columns).filter(
        (name) => !same(remote[name], base[name]) && !same(remote[name], local.columns[name]),
      );
      expect(asked.sort()).toEqual(expected.sort());
      for (const { column, base: was, local: mine, remote: other } of disagreements)
        expect([was, mine, other]).toEqual([
          base[column as string],
          local.columns[column as string],
          remote[column as string],
        ]);
    }),
  ));
const same = (a: unknown, b: unknown) => JSON.stringify(a, sorted) === JSON.stringify(b, sorted);
const sorted = (_key: string, value: unknown) =>
  value !== null && typeof value === 'object' && !Array.isArray(value)
    ? Object.fromEntries(Object.entries(value).sort())
    : value;

test('merging again what was merged changes nothing', () =>
  fc.assert(
    fc.property(row, edit, row, (base, given, remote) => {
      const local = real(base, given);
      const once = mergeRow(hive, base, local, remote);
      expect(mergeRow(hive, base, local, remote)).toEqual(once);
      // Onto a base that has moved to the remote, the same plain edit gives the same row, and asks nothing any more.
      const bare: Change = { ...local, operations: {} } as Change;
      const again = mergeRow(hive, remote, real(remote, bare), remote);
      expect(plain(again.row)).toEqual(plain(mergeRow(hive, base, bare, remote).row));
      expect(again.disagreements).toEqual([]);
    }),
  ));

test('counters sum, and sets keep every member that was included and not excluded, in whatever order devices sync', () =>
  fc.assert(
    fc.property(
      row,
      fc.array(operations, { minLength: 1, maxLength: 4 }),
      fc.infiniteStream(fc.nat()),
      (base, devices, draw) => {
        const edits = devices.map(
          (given): Change => ({ kind: 'update', table: 'hive', id: 'h1', columns: {}, operations: given as never }),
        );
        const order = [...edits].sort(() => ((draw.next().value as number) % 2 ? 1 : -1));
        // Each device merges its edit onto what the server has by then, all from the same base.
        const server = order.reduce<AnyRow>((remote, local) => mergeRow(hive, base, local, remote).row as AnyRow, base);
        const added = devices.reduce(
          (sum, each) => sum + ((each as { frames?: { add: number } }).frames?.add ?? 0),
          base.frames as number,
        );
        expect(server.frames).toBe(added);
        const included = devices.flatMap((each) => (each as { tags?: { include: string[] } }).tags?.include ?? []);
        const excluded = new Set(
          devices.flatMap((each) => (each as { tags?: { exclude: string[] } }).tags?.exclude ?? []),
        );
        for (const each of included) if (!excluded.has(each)) expect(server.tags).toContain(each);
        for (const each of base.tags as string[]) if (!excluded.has(each)) expect(server.tags).toContain(each);
      },
    ),
  ));

test('edits joined are the edits one after the other', () =>
  fc.assert(
    fc.property(row, fc.array(edit, { minLength: 1, maxLength: 5 }), (base, edits) => {
      expect(plain(after(base, joined(...edits)))).toEqual(plain(after(base, ...edits)));
      const { id, ...columns } = base;
      const insert: Change = { kind: 'insert', table: 'hive', id, columns };
      expect(plain(applyChange(hive, null, joined(insert, ...edits)))).toEqual(plain(after(base, ...edits)));
      expect(joined(insert, ...edits, { kind: 'delete', table: 'hive', id })).toMatchObject({ kind: 'delete' });
    }),
  ));

// The laws of the rules: what they decide is settled, is the same whoever merges, and leaves what they may not decide.

const ruled = table({
  mark: text({ optional: true, merge: 'newest' }),
  strength: integer({ optional: true, merge: ({ local, remote }) => Math.max(local ?? -1, remote ?? -1) }),
  label: json({ optional: true }),
  notes: text({ default: '' }),
  kept: text({ default: '', merge: 'keep local' }),
  left: text({ default: '', merge: 'keep remote' }),
  asked: integer({ default: 0, merge: 'ask' }),
  frames: counter(),
  tags: setOfText(),
});
const line = fc.array(fc.constantFrom('a', 'b', 'c', ''), { maxLength: 5 }).map((lines) => lines.join('\n'));
const ruledValues = {
  mark: fc.constantFrom(null, 'A', 'B'),
  strength: fc.constantFrom(null, 0, 1, 2),
  label: fc.dictionary(fc.constantFrom('x', 'y', '__proto__'), fc.constantFrom(1, 2, null, { in: 1 }), { maxKeys: 2 }),
  notes: line,
  kept: fc.constantFrom('', 'k', 'l'),
  left: fc.constantFrom('', 'k', 'l'),
  asked: fc.constantFrom(0, 1, 2),
};
const ruledRow = fc
  .record({ ...ruledValues, frames: fc.nat(9), tags: members })
  .map((columns) => wholeRow(ruled, 'h1', { ...columns, tags: [...columns.tags].sort() }));
const ruledEdit = fc
  .record({ columns: fc.record(ruledValues, { requiredKeys: [] }), operations })
  .map(({ columns, operations }): Change => ({ kind: 'update', table: 'hive', id: 'h1', columns, operations }));
const over = (row: AnyRow, change: Change | undefined) => (change ? applyChange(ruled, row, change) : row) as AnyRow;

test('by rules: the row is what the device is left to do to the server’s row, and merging that again changes nothing', () =>
  fc.assert(
    fc.property(ruledRow, ruledEdit, ruledRow, fc.nat(3), fc.nat(3), (base, local, remote, mine, theirs) => {
      const { row: shown, disagreements: open, left } = merged(ruled, base, local, remote, mine, theirs);
      expect(plain(over(remote, left))).toEqual(plain(shown));
      // On the server's row, by now the base, there is nothing left to settle.
      const again = merged(ruled, remote, left, remote, mine, theirs);
      expect([plain(again.row), again.disagreements]).toEqual([plain(shown), []]);
      if (local.kind === 'update')
        for (const { column } of open) expect(shown?.[column as string]).toEqual(local.columns[column as string]);
    }),
  ));

test('by rules that know no sides, two devices end alike whichever syncs first', () =>
  fc.assert(
    fc.property(ruledRow, ruledEdit, ruledEdit, fc.nat(3), fc.nat(3), (base, one, two, first, second) => {
      const order = (early: Change, late: Change, earlyAt: number, lateAt: number) =>
        merged(ruled, base, late, over(base, early), lateAt, earlyAt);
      const [a, b] = [order(one, two, first, second), order(two, one, second, first)];
      for (const name of ['mark', 'strength', 'frames']) expect(a.row?.[name]).toEqual(b.row?.[name]);
      const asked = (settlement: typeof a) => settlement.disagreements.map(({ column }) => column).sort();
      expect(asked(a)).toEqual(asked(b));
      for (const name of ['notes']) if (!asked(a).includes(name)) expect(a.row?.[name]).toEqual(b.row?.[name]);
    }),
  ));

const mergedNotes = (base: string, mine: string, theirs: string) => {
  const of = (notes: string) => wholeRow(ruled, 'h1', { notes });
  const edit: Change = { kind: 'update', table: 'hive', id: 'h1', columns: { notes: mine }, operations: {} };
  const { row, disagreements } = merged(ruled, of(base), edit, of(theirs), 1, 1);
  return disagreements.length > 0 ? 'asked' : row?.notes;
};

test('texts: lines that only one side touched are as it left them; nothing is asked where untouched lines are between', () =>
  fc.assert(
    fc.property(
      fc.array(fc.constantFrom('keep', 'mine', 'theirs'), { minLength: 1, maxLength: 12 }),
      fc.array(fc.array(fc.constantFrom('new', 'a', ''), { maxLength: 3 }), { minLength: 12, maxLength: 12 }),
      (whose, put) => {
        // Every other line stays, so that no two edits touch; each of them is unlike any other.
        const side = (who: 'mine' | 'theirs' | 'both' | 'none') =>
          whose
            .flatMap((owner, n) => {
              const isEdited = owner === who || (who === 'both' && owner !== 'keep');
              return [`line ${n}`, ...(isEdited ? (put[n] as string[]) : [`between ${n}`]), `end ${n}`];
            })
            .join('\n');
        expect(mergedNotes(side('none'), side('mine'), side('theirs'))).toBe(side('both'));
      },
    ),
  ));

test('texts of thousands of equal lines are joined at once; where that would take minutes, the person is asked', () => {
  const lines = '\n'.repeat(20_000);
  expect(mergedNotes(lines, `first${lines}`, `${lines}last`)).toBe(`first${lines}last`);
  expect(mergedNotes(lines, `first${lines}last`, lines.slice(1))).toBe('asked');
  // A line that is gone is not one that is empty.
  expect(mergedNotes('a\na', 'a', 'a\n')).toBe('asked');
  const many = '\n'.repeat(300_000);
  expect(mergedNotes(many, `first${many}`, `${many}last`)).toBe(`first${many}last`);
});
