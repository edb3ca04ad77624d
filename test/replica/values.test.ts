import { openReplica, type Replica } from '@koinon/client';
import { bytes, json, schema, table, text } from '@koinon/core';
import fc from 'fast-check';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { type StoreKind, storeKinds } from '../support/stores.ts';
import { row, things } from '../support/things.ts';
import { World } from '../support/world.ts';

// A value is kept exactly, all the way: device, file, wire, server, wire, other device.

// Names that the inside of a server uses itself, and ones that SQL has to quote.
const odd = text({ optional: true });
const oddNames = {
  stamp: odd,
  receipt: odd,
  position: odd,
  edited: odd,
  s: odd,
  r: odd,
  n: odd,
  o: odd,
  k: odd,
  select: odd,
  'a b': odd,
  'Éa-1': odd,
  _: odd,
};
const given = schema({
  thing: things,
  blob: table({ data: bytes(), note: json() }),
  'order by': table({ ...oddNames, data: bytes({ optional: true }) }, { unique: [['select', 'a b']] }),
});
const worlds = new Map<StoreKind, readonly [World<typeof given>, ...Replica<typeof given>[]]>();
beforeAll(async () => {
  for (const kind of storeKinds) {
    const world = await World.of(given, kind);
    worlds.set(kind, [world, await world.replica(), await world.replica()]);
  }
});
afterAll(async () => {
  for (const [world] of worlds.values()) await world.end();
});

test.each(storeKinds)(
  '%s: every row that a device accepts arrives on the other one as it was written',
  async (kind) => {
    const [, here, there] = worlds.get(kind) as [unknown, Replica<typeof given>, Replica<typeof given>];
    await fc.assert(
      fc.asyncProperty(
        fc.array(row, { minLength: 1, maxLength: 5 }),
        fc.array(fc.record({ data: fc.uint8Array({ maxLength: 40 }), note: fc.jsonValue({ maxDepth: 3 }) }), {
          maxLength: 3,
        }),
        async (rows, blobs) => {
          const written = await here.transaction(async (transaction) => [
            ...(await transaction.insertAll('thing', rows as never)),
            ...(await transaction.insertAll(
              'blob',
              blobs.filter(({ note }) => note !== null && isPlainText(note)) as never,
            )),
          ]);
          expect((await here.sync()).up).toMatchObject({ rejected: 0, stale: 0 });
          await there.sync();
          for (const each of written) expect(await there.get('data' in each ? 'blob' : 'thing', each.id)).toEqual(each);
          // And in the file: opened anew, it reads the same.
          for (const each of written.slice(0, 1))
            expect(await here.get('data' in each ? 'blob' : 'thing', each.id)).toEqual(each);
        },
      ),
      runs(40),
    );
    const note = JSON.parse('[{"__proto__": 1}]');
    await expect(here.insert('blob', { data: new Uint8Array(), note })).rejects.toMatchObject({ code: 'value-type' });
    const named = await here.insert('order by', { 'a b': 'x', select: 'y', stamp: 'z', 'Éa-1': '1' });
    await here.sync();
    await here.update('order by', named.id, { position: '1', _: "it's", receipt: '"' });
    await here.sync();
    await there.sync();
    expect(await there.get('order by', named.id)).toEqual(await here.get('order by', named.id));
    await there.delete('order by', named.id);
    await there.sync();
    await here.sync();
    expect(await here.get('order by', named.id)).toBeUndefined();
  },
);
/** JSON may hold what is refused: NUL, halves of pairs, a member that stands for an object's prototype. */
const isPlainText = (note: unknown) => !/\\u0000|\\ud[89a-f]|"__proto__":/i.test(JSON.stringify(note));

test.each(storeKinds)(
  '%s: a first download in pages of any size, with writes between the pages, ends with what the server holds',
  (kind) =>
    fc.assert(
      fc.asyncProperty(
        fc.integer({ min: 1, max: 7 }),
        fc.array(fc.record({ page: fc.nat(12), n: fc.nat(9), what: fc.constantFrom('update', 'delete', 'insert') }), {
          maxLength: 8,
        }),
        async (limit, writes) => {
          const source = await World.of(schema({ blob: given.tables.blob }), kind);
          const bytesOf = (hex: string) => (kind === 'SQLite' ? `x'${hex}'` : `'\\x${hex}'`);
          try {
            const shell = await source.shell();
            for (let n = 0; n < 10; n++)
              await shell.exec(`INSERT INTO blob VALUES ('b${n}', ${bytesOf(`0${n}`)}, '${n}')`);
            let page = 0;
            const paged = await openReplica({
              schema: source.schema,
              server: {
                async pull(request) {
                  for (const { n, what } of writes.filter((write) => write.page === page))
                    await shell.exec(
                      what === 'update'
                        ? `UPDATE blob SET note = '"page ${page}"' WHERE id = 'b${n}'`
                        : what === 'delete'
                          ? `DELETE FROM blob WHERE id = 'b${n}'`
                          : `INSERT INTO blob VALUES ('b${n}${page}', ${bytesOf('ff')}, '0') ON CONFLICT DO NOTHING`,
                    );
                  page++;
                  const { lines } = await source.request('/v1/pull', { ...request, limit });
                  const [header, ...rows] = lines as never as [never, ...never[]];
                  return { header, rows };
                },
                push: () => Promise.reject(new Error('nothing to push')),
              },
            });
            await paged.sync();
            const held = (await paged.rows({ from: 'blob' })).map(({ id, note }) => [id, note]);
            const stored = await shell.all<{ id: string; note: string }>(
              'SELECT id, CAST(note AS text) AS note FROM blob ORDER BY id',
            );
            expect(held).toEqual(stored.map(({ id, note }) => [id, JSON.parse(note)]));
            await paged.close();
          } finally {
            await source.end();
          }
        },
      ),
      runs(20),
    ),
);

test.each(storeKinds)(
  '%s: what a deleted row held comes back exactly, from the trash to every device',
  async (kind) => {
    const [, here, there] = worlds.get(kind) as [unknown, Replica<typeof given>, Replica<typeof given>];
    await fc.assert(
      fc.asyncProperty(
        row,
        fc.record({ data: fc.uint8Array({ maxLength: 40 }), note: fc.jsonValue({ maxDepth: 3 }) }),
        async (thing, blob) => {
          fc.pre(blob.note !== null && isPlainText(blob.note));
          const written = [await here.insert('thing', thing as never), await here.insert('blob', blob as never)];
          await here.sync();
          await there.sync();
          await here.delete('thing', written[0]?.id as string);
          await here.delete('blob', written[1]?.id as string);
          await here.sync();
          await there.sync();
          for (const [i, table] of (['thing', 'blob'] as const).entries()) {
            const { id } = written[i] as { id: string };
            expect(await there.get(table, id)).toBeUndefined();
            expect(await there.trash({ table, id })).toHaveLength(1);
            await there.restore(table, id);
            expect(await there.get(table, id)).toEqual(written[i]);
          }
          expect((await there.sync()).up).toMatchObject({ applied: 2, rejected: 0, stale: 0 });
          await here.sync();
          for (const [i, table] of (['thing', 'blob'] as const).entries())
            expect(await here.get(table, written[i]?.id as string)).toEqual(written[i]);
        },
      ),
      runs(25),
    );
  },
);
