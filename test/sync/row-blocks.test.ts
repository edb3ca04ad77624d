import { httpTransport, openReplica, type Replica } from '@koinon/client';
import { json, type PulledPage, type PullRequest, schema, table } from '@koinon/core';
import { withoutBlocks } from '@koinon/core/internal';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { commonsWorld, replicaOf } from '../support/commons.ts';
import { runs } from '../support/runs.ts';
import { storeKinds } from '../support/stores.ts';
import { row, things } from '../support/things.ts';
import { never, World } from '../support/world.ts';

// Rows of a first download come as text that the database has made. Nobody may be able to tell.

const given = schema({ thing: things, page: table({ content: json({ optional: true }) }) });

/** All pages of a first download, and whether any row came in a block. */
async function download(url: string, request: PullRequest, token?: string) {
  const transport = httpTransport(url, token === undefined ? undefined : { token: () => token });
  const rows = new Map<string, unknown>();
  let inBlocks = 0;
  for (let cursor: string | undefined, more = true; more; ) {
    const page: PulledPage = await transport.pull({ ...request, ...(cursor && { cursor }) });
    for (const block of page.blocks ?? []) inBlocks += block.rows.length;
    const whole = withoutBlocks(page);
    expect(whole.rows.length).toBe(page.header.rows);
    for (const { position, ...pulled } of whole.rows) rows.set(`${pulled.table} ${pulled.id}`, pulled);
    cursor = page.header.cursor;
    more = page.header.more;
  }
  return { rows, inBlocks };
}

test.each(storeKinds)('%s: a block says of every row what a line of its own says', async (kind) => {
  const world = await World.inTest(given, kind);
  const shell = await world.shell();
  const writer = await world.replica();
  await fc.assert(
    fc.asyncProperty(
      fc.array(row, { minLength: 1, maxLength: 20 }),
      fc.array(fc.jsonValue({ maxDepth: 3 }), { maxLength: 5 }),
      fc.integer({ min: 1, max: 30 }),
      async (rows, contents, limit) => {
        await writer.transaction(async (transaction) => {
          await transaction.insertAll('thing', rows as never);
          for (const content of contents)
            if (!/\\u0000|\\ud[89a-f]|"__proto__":/i.test(JSON.stringify(content)))
              await transaction.insert('page', { content: content as never });
        });
        await writer.sync();
        const alone = await download(world.server.url, { limit });
        const blocks = await download(world.server.url, { limit, rowBlocks: true });
        expect(alone.inBlocks).toBe(0);
        expect(blocks.inBlocks).toBe(alone.rows.size);
        expect(blocks.rows).toEqual(alone.rows);
      },
    ),
    { ...runs(25), endOnFailure: true },
  );
  // A set that another program has written: the row comes by itself, and the set is empty.
  const set = kind === 'SQLite' ? "'[1, 2]'" : "'[1, 2]'::jsonb";
  await shell.exec(`INSERT INTO thing (id, tags) VALUES ('odd', ${set})`);
  const { rows, inBlocks } = await download(world.server.url, { rowBlocks: true, tables: ['thing'] });
  expect([inBlocks, rows.get('thing odd')]).toMatchObject([0, { columns: { tags: [] } }]);
  if (kind === 'PostgreSQL') return;
  // SQL's own way to write a time, by another program.
  await shell.exec(`DELETE FROM thing; INSERT INTO thing (id, tags, at) VALUES ('early', '[]', '2026-05-01 09:30:00')`);
  const early = await download(world.server.url, { rowBlocks: true });
  expect(early.rows.get('thing early')).toMatchObject({ columns: { at: '2026-05-01T09:30:00.000Z' } });
  expect(early.inBlocks).toBe(early.rows.size);
});

test.each(storeKinds)('%s: blocks hold what is in the scope, and no column that is withheld', async (kind) => {
  const world = await commonsWorld(kind);
  try {
    const office = await replicaOf(world, 'office');
    await office.insert('plot', { id: 'mine', name: 'Mine' });
    await office.insert('plot', { id: 'other', name: 'Other' });
    await office.insert('tenancy', { plot: 'mine', person: 'runa' });
    for (const plot of ['mine', 'other'])
      for (let n = 0; n < 30; n++) await office.insert('crop', { plot, label: `${plot} ${n}`, price: n });
    await office.sync();
    const alone = await download(world.server.url, { limit: 7 }, 'runa');
    const blocks = await download(world.server.url, { limit: 7, rowBlocks: true }, 'runa');
    expect(blocks.rows).toEqual(alone.rows);
    expect(blocks.inBlocks).toBe(32);
    expect(JSON.stringify([...blocks.rows])).not.toMatch(/price|other/i);
  } finally {
    await world.end();
  }
});

test('a replica takes blocks in whether it is empty, has edits of its own, or is watched', async () => {
  const world = await World.inTest(given);
  const shell = await world.shell();
  for (let n = 0; n < 120; n++)
    await shell.exec(
      `INSERT INTO thing (id, name, good, weight, tags) VALUES ('t${n}', 'n${n}', ${n % 2}, ${n}.5, '["x"]')`,
    );
  const replicas: Replica<typeof given>[] = [];
  for (const [file, before] of [
    ['empty', async () => undefined],
    ['edited', async (replica: Replica<typeof given>) => void (await replica.insert('thing', { id: 'own', tags: [] }))],
    [
      'watched',
      async (replica: Replica<typeof given>) => void replica.live({ from: 'thing' }).subscribe(() => undefined),
    ],
  ] as const) {
    const replica = await openReplica({
      schema: given,
      file: world.path(`${file}.db`),
      server: world.server.url,
      sync: { when: never, live: false },
    });
    replicas.push(await world.closed(Promise.resolve(replica)));
    await before(replica);
    const { down } = await replica.sync();
    expect([file, down.insert]).toEqual([file, file === 'watched' ? 121 : 120]);
  }
  const [empty] = replicas as [Replica<typeof given>];
  const held = { id: 't7', name: 'n7', weight: 7.5, good: true, paid: '0.0000', tags: ['x'] };
  const none = Object.fromEntries(given.tables.thing.names.map((name) => [name, null]));
  expect(await empty.get('thing', 't7')).toEqual({ ...none, ...held });
  for (const replica of replicas) await replica.sync();
  const all = await Promise.all(replicas.map((replica) => replica.rows({ from: 'thing' })));
  for (const rows of all) expect(rows).toEqual(all[0]);
  expect(all[0]).toHaveLength(121);
});
