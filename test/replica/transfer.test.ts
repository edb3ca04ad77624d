import { openReplica, type Replica } from '@koinon/client';
import { exportRows, importRows, type TransferProgress } from '@koinon/client/transfer';
import { bytes, json, reference, schema, table, text } from '@koinon/core';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { household } from '../support/household-schema.ts';
import { runs } from '../support/runs.ts';
import { row, thingSchema } from '../support/things.ts';

// Import and export in open formats: JSON Lines and CSV.

async function exported(
  replica: Replica<never>,
  given: Parameters<typeof exportRows>[1],
  options: object,
): Promise<string> {
  let whole = '';
  for await (const piece of exportRows(replica, given as never, options)) whole += piece;
  return whole;
}

test.each(['jsonl', 'csv'] as const)('what %s exports it imports again, whatever the values', (format) =>
  fc.assert(
    fc.asyncProperty(fc.array(row, { maxLength: 6 }), async (rows) => {
      const [from, to] = [await openReplica({ schema: thingSchema }), await openReplica({ schema: thingSchema })];
      await from.insertAll('thing', rows.map((each, n) => ({ ...each, id: `id-${n}` })) as never);
      const file = await exported(from as never, thingSchema, { table: 'thing', format });
      // In pieces that cut lines and characters anywhere.
      const encoded = new TextEncoder().encode(file);
      const pieces = Array.from({ length: Math.ceil(encoded.length / 7) }, (_, n) => encoded.slice(n * 7, n * 7 + 7));
      expect(await importRows(to, thingSchema, pieces, { table: 'thing', format })).toEqual({ rows: rows.length });
      expect(await to.rows({ from: 'thing' })).toEqual(await from.rows({ from: 'thing' }));
      await Promise.all([from.close(), to.close()]);
    }),
    runs(60),
  ),
);

const library = schema({
  book: table({
    shelf: reference('shelf'),
    title: text(),
    extra: json({ optional: true }),
    cover: bytes({ optional: true }),
  }),
  shelf: table({ name: text() }),
});

test('a whole replica comes out with tables behind those they refer to, and goes in again over what is there', async () => {
  const replica = await openReplica({ schema: library });
  await replica.insert('shelf', { id: 's1', name: 'upper' });
  await replica.insert('book', {
    id: 'b1',
    shelf: 's1',
    title: 'On "swarms"',
    extra: 'text, not object',
    cover: new Uint8Array([1, 2]),
  });
  const file = await exported(replica as never, library, {});
  expect(
    file
      .split('\n')
      .filter(Boolean)
      .map((line) => JSON.parse(line)),
  ).toEqual([
    { table: 'shelf', row: { id: 's1', name: 'upper' } },
    { table: 'book', row: { id: 'b1', shelf: 's1', title: 'On "swarms"', extra: 'text, not object', cover: 'AQI=' } },
  ]);
  expect(await exported(replica as never, library, { table: 'book', format: 'csv' })).toBe(
    'id,shelf,title,extra,cover\nb1,s1,"On ""swarms""","""text, not object""",AQI=\n',
  );
  await replica.update('book', 'b1', { title: 'changed' });
  expect(await importRows(replica, library, [file], { existing: 'update' })).toEqual({ rows: 2 });
  expect(await replica.get('book', 'b1')).toMatchObject({
    title: 'On "swarms"',
    extra: 'text, not object',
    cover: new Uint8Array([1, 2]),
  });
  await replica.close();
});

test.each([
  [
    'jsonl',
    '{"table":"shelf","row":{"id":"a","name":"x"}}\n{"table":"shelf","row":{"id":"b"}}',
    { message: expect.stringMatching(/^Line 2: shelf\.name/), column: 'name' },
  ],
  ['jsonl', '{"table":"shelf","row":{"id":"a","name":"x"}}\nnot JSON', { message: expect.stringMatching(/^Line 2: /) }],
  [
    'jsonl',
    '{"table":"shelf","row":{"id":"a","name":"x"}}\n{"table":"shelf","row":{"id":"a","name":"y"}}',
    { message: expect.stringMatching(/^Line 2: .*there already/) },
  ],
  ['csv', 'id,name\na,x\nb,\n', { message: expect.stringMatching(/^Line 3: shelf\.name/), column: 'name' }],
  ['csv', 'id,nmae\na,x\n', { message: expect.stringMatching(/^Line 2: .*nmae/), column: 'nmae' }],
  ['csv', 'id,name\na,x\nb,y,z\n', { message: expect.stringMatching(/^Line 3: /) }],
] as const)('an import that meets a bad line stops there and says which: %#', async (format, file, error) => {
  const replica = await openReplica({ schema: library });
  await expect(importRows(replica, library, [file], { table: 'shelf', format })).rejects.toMatchObject({
    code: 'import-stopped',
    ...error,
  });
  expect(await replica.count({ from: 'shelf' })).toBe(file.includes('nmae') ? 0 : 1);
  await replica.close();
});

test('during a long import single writes and reads get their turn; it tells how far it is and can be cancelled', async () => {
  const replica = await openReplica({ schema: library });
  const total = 30_000;
  function* lines() {
    for (let n = 0; n < total; n++) yield `{"table":"shelf","row":{"id":"s${n}","name":"shelf ${n}"}}\n`;
  }
  const progress: TransferProgress[] = [];
  const importing = importRows(replica, library, lines(), { onProgress: (each) => progress.push(each) });
  for (let n = 0; n < 20; n++) {
    await replica.insert('shelf', { id: `own-${n}`, name: 'own' });
    await new Promise((done) => setTimeout(done, 1));
  }
  const reached = progress.at(-1)?.rows ?? 0;
  expect(reached).toBeLessThan(total);
  expect(await importing).toEqual({ rows: total });
  expect(progress.at(-1)).toEqual({ rows: total, of: null });
  expect(await replica.count({ from: 'shelf' })).toBe(total + 20);

  const controller = new AbortController();
  const cancelled = importRows(replica, library, lines(), {
    existing: 'update',
    signal: controller.signal,
    onProgress: () => controller.abort(),
  });
  await expect(cancelled).rejects.toMatchObject({ code: 'cancelled' });
  const exporting = exportRows(replica, library, { table: 'shelf', signal: controller.signal });
  await expect(exporting.next()).rejects.toMatchObject({ code: 'cancelled' });
  await replica.close();
});

test('a source of CSV that fails half-way is told as that, and the rows before it are in', async () => {
  const replica = await openReplica({ schema: household });
  async function* failing() {
    yield 'id,name\nr1,attic\n';
    throw new Error('the file is gone');
  }
  await expect(importRows(replica, household, failing(), { table: 'room', format: 'csv' })).rejects.toThrow(
    'the file is gone',
  );
  await replica.close();
});
