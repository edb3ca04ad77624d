import { copyFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { openReplica, type Transport } from '@koinon/client';
import type { PulledPage, PulledRow } from '@koinon/core';
import { type BenchRow, perSecond } from './measure.ts';
import { folderOf } from './served.ts';
import { visit, visits } from './visits.ts';

// The cost of own changes that are not confirmed: merging what arrives with them, and telling the status of rows.

const size = 10_000;

/** A server that answers each pull with the next of these pages. */
function paged(pages: readonly (readonly PulledRow[])[]): Transport {
  let at = 0;
  return {
    pull: async (): Promise<PulledPage> => {
      const rows = pages[at++] ?? [];
      const header = {
        from: at - 1,
        to: at,
        newest: pages.length,
        cursor: `c${at}`,
        rows: rows.length,
        acknowledged: [],
      };
      const more = at < pages.length;
      return { header: { ...header, kind: 'changes', more, last: true, time: new Date().toISOString() }, rows };
    },
    push: async () => {
      throw new Error('nothing is sent here');
    },
  };
}

const inPages = (rows: readonly PulledRow[]) =>
  Array.from({ length: rows.length / 5_000 }, (_, i) => rows.slice(i * 5_000, (i + 1) * 5_000));

/** Files of a replica that holds the rows: with an edit of each that is not sent, and without. */
async function heldFiles() {
  const folder = folderOf();
  const [plain, edited] = [join(folder, 'plain.db'), join(folder, 'edited.db')];
  const first = Array.from({ length: size }, (_, n): PulledRow => {
    const { id, ...columns } = visit(n);
    return { kind: 'insert', table: 'visit', id, position: 1, columns };
  });
  const replica = await openReplica({ schema: visits, file: plain, server: paged(inPages(first)) });
  await replica.sync({ direction: 'pull' });
  await replica.close();
  copyFileSync(plain, edited);
  const editing = await openReplica({ schema: visits, file: edited });
  for (let n = 0; n < size; n += 10)
    await editing.transaction(async (transaction) => {
      for (let i = n; i < n + 10; i++) await transaction.update('visit', visit(i).id, { mites: 30 + (i % 9) });
    });
  await editing.close();
  return { folder, plain, edited };
}

const rebase: BenchRow = {
  row: 'rebase-10000',
  unit: 'ms',
  reach: { most: 2 },
  rounds: 5,
  async prepare() {
    const { folder, plain, edited } = await heldFiles();
    const arriving = Array.from(
      { length: size },
      (_, n): PulledRow => ({
        kind: 'update',
        table: 'visit',
        id: visit(n).id,
        position: 2,
        columns: { weight: 40 + (n % 7), notes: `seen again ${n}` },
        editedAt: '2026-06-02T10:00:00.000Z',
      }),
    );
    const time = async (file: string) => {
      const copy = join(folder, 'copy.db');
      rmSync(copy, { force: true });
      copyFileSync(file, copy);
      const replica = await openReplica({ schema: visits, file: copy, server: paged(inPages(arriving)) });
      const started = performance.now();
      await replica.sync({ direction: 'pull' });
      const took = performance.now() - started;
      await replica.close();
      return took;
    };
    return {
      floor: () => time(plain),
      koinon: () => time(edited),
      async close() {
        rmSync(folder, { recursive: true, force: true });
      },
    };
  },
};

const edits = 1_000;

/** As many unsent edits of one row cost what they cost of as many rows: their number counts, and not its square. */
const rebaseOne: BenchRow = {
  row: 'rebase-1000-of-one-row',
  unit: 'ms, against 1,000 of 1,000 rows',
  reach: { most: 2 },
  rounds: 5,
  async prepare() {
    const { folder, plain } = await heldFiles();
    const file = async (name: string, row: (n: number) => number) => {
      const made = join(folder, name);
      copyFileSync(plain, made);
      const replica = await openReplica({ schema: visits, file: made });
      for (let n = 0; n < edits; n++) await replica.update('visit', visit(row(n)).id, { notes: `mine\n${n}` });
      await replica.close();
      return made;
    };
    const [many, one] = [await file('many.db', (n) => n), await file('one.db', () => 0)];
    const arriving = (rows: number) =>
      Array.from(
        { length: rows },
        (_, n): PulledRow => ({
          kind: 'update',
          table: 'visit',
          id: visit(n).id,
          position: 2,
          columns: { notes: 'theirs' },
          editedAt: '2026-06-02T10:00:00.000Z',
        }),
      );
    const time = async (held: string, rows: number) => {
      const copy = join(folder, 'copy.db');
      rmSync(copy, { force: true });
      copyFileSync(held, copy);
      const replica = await openReplica({ schema: visits, file: copy, server: paged([arriving(rows)]) });
      const started = performance.now();
      await replica.sync({ direction: 'pull' });
      const took = performance.now() - started;
      await replica.close();
      return took;
    };
    return {
      floor: () => time(many, edits),
      koinon: () => time(one, 1),
      async close() {
        rmSync(folder, { recursive: true, force: true });
      },
    };
  },
};

const status: BenchRow = {
  row: 'row-status',
  unit: 'ms',
  reach: { most: 1.3 },
  async prepare() {
    const { folder, plain } = await heldFiles();
    const replica = await openReplica({ schema: visits, file: plain });
    for (let n = 0; n < 100; n++) await replica.update('visit', visit(n * 97).id, { mites: 31 });
    const time = async (ask: () => Promise<unknown>) =>
      1000 /
      (await perSecond(10, async () => {
        for (let n = 0; n < 10; n++) await ask();
      }));
    return {
      floor: () => time(() => replica.rows({ from: 'visit' })),
      koinon: () => time(() => replica.rows({ from: 'visit', join: { sync: 'status' } })),
      async close() {
        await replica.close();
        rmSync(folder, { recursive: true, force: true });
      },
    };
  },
};

/** The rows about conflicts and what is not confirmed. */
export const conflictRows: readonly BenchRow[] = [rebase, rebaseOne, status];
