import { mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { inspectReplica, openNodeDriver, openReplica, rescueReplica } from '@koinon/client';
import { importRows } from '@koinon/client/transfer';
import { KoinonError } from '@koinon/core';
import { afterEach, beforeEach, expect, test } from 'vitest';
import { type Household, household } from '../support/household-schema.ts';

// A file that the storage has damaged: what can be read of it is read.

let folder: string;
beforeEach(async () => {
  folder = await mkdtemp(join(tmpdir(), 'koinon-rescue-'));
});
afterEach(() => rm(folder, { recursive: true, force: true }));

const unsent = 300;

/** A file with unsent edits of every kind, and how large its pages are. */
async function written(): Promise<{ readonly file: string; readonly bytes: Buffer; readonly page: number }> {
  const file = join(folder, 'phone.db');
  const replica = await openReplica({ schema: household, file });
  for (let n = 0; n < unsent; n++)
    await replica.transaction(async (transaction) => {
      await transaction.insert('thing', {
        id: `t${n}`,
        name: `lamp ${n} ${'x'.repeat(100)}`,
        picture: new Uint8Array([n % 256, 1]),
      });
      if (n % 3 === 0) await transaction.update('thing', `t${n}`, { worth: n });
      if (n % 5 === 0) await transaction.add('thing', `t${n}`, 'used', 2);
    });
  await replica.close();
  const driver = await openNodeDriver({ file, readOnly: true });
  const { page_size } = driver.prepare('PRAGMA page_size').get() as { page_size: number };
  driver.close();
  return { file, bytes: await readFile(file), page: page_size };
}

test('a look and a rescue print what new rows hold, and what counters were told; the rows go in again', async () => {
  const { file } = await written();
  const look = await inspectReplica(file);
  expect(look.outbox()[0]?.changes[0]).toMatchObject({
    kind: 'insert',
    id: 't0',
    columns: { name: expect.stringContaining('lamp 0'), picture: 'AAE=' },
  });
  expect(look.outbox()[5]?.changes.at(-1)).toMatchObject({ operations: { used: { add: 2 } } });
  look.close();
  const rescue = await rescueReplica(file);
  expect([...rescue.unsent()]).toHaveLength(unsent + unsent / 3 + unsent / 5);
  const lines = [...rescue.rows()].map((row) => `${JSON.stringify(row)}\n`);
  expect(rescue.skipped).toEqual([]);
  rescue.close();
  const [before, again] = [await openReplica({ schema: household, file }), await openReplica({ schema: household })];
  await importRows(again, household, lines);
  expect(await again.rows({ from: 'thing', order: ['id'] })).toEqual(
    await before.rows({ from: 'thing', order: ['id'] }),
  );
  await before.close();
  await again.close();
});

test('whichever page is damaged, a rescue reads at least what plain SQL reads, and says what it has skipped', async () => {
  const { bytes, page } = await written();
  const pages = bytes.length / page;
  const codes = new Set<string>();
  let skipped = 0;
  for (let n = 1; n < pages; n++) {
    const damaged = join(folder, `page ${n}.db`);
    const copy = Buffer.from(bytes);
    copy.fill(0x5a, n * page, n * page + page);
    await writeFile(damaged, copy);
    // Where the damaged page describes the tables, nothing at all can be read.
    const plain = await openNodeDriver({ file: damaged, readOnly: true }).catch(() => undefined);
    const readable: string[] = [];
    try {
      const changes = "SELECT place, table_name, row_id FROM koinon_outbox WHERE kind <> 'transaction' ORDER BY place";
      const rows = plain?.prepare(changes).iterate() ?? [];
      for (const row of rows as Iterable<{ row_id: string }>) readable.push(row.row_id);
    } catch {
      // As far as it goes.
    }
    plain?.close();
    try {
      const rescue = await rescueReplica(damaged);
      const found = [...rescue.unsent()].map(({ id }) => id);
      const rows = [...rescue.rows()];
      expect(found.length, `page ${n}`).toBeGreaterThanOrEqual(readable.length);
      expect(rows.length + rescue.skipped.length, `page ${n}`).toBeGreaterThan(0);
      // One damaged page does not hide what is on the others.
      if (readable.length > 0) expect(found.length, `page ${n}`).toBeGreaterThan(unsent);
      skipped += rescue.skipped.length;
      rescue.close();
    } catch (error) {
      expect(error, `page ${n}`).toBeInstanceOf(KoinonError);
      codes.add((error as KoinonError).code);
      expect(readable, `page ${n}`).toEqual([]);
    }
    // The replica itself says what it is, whatever is asked, and closes.
    const replica = await openReplica<Household>({ schema: household, file: damaged }).catch((error: unknown) => error);
    if (replica instanceof Error) {
      expect(replica, `page ${n}`).toBeInstanceOf(KoinonError);
      continue;
    }
    const open = replica as Awaited<ReturnType<typeof openReplica<Household>>>;
    for (const ask of [
      () => open.rows({ from: 'thing' }),
      () => open.outbox(),
      () => open.status(),
      () => open.conflicts(),
      () => open.update('thing', 't7', { name: 'torch' }),
      () => open.undo(),
    ])
      await ask().catch((error: unknown) => {
        expect(error, `page ${n}`).toBeInstanceOf(KoinonError);
        codes.add((error as KoinonError).code);
      });
    await open.close();
  }
  expect(skipped).toBeGreaterThan(0);
  expect([...codes]).toContain('storage-damaged');
  expect([...codes]).not.toContain('internal-failure');
});
