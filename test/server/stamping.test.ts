import { randomUUID } from 'node:crypto';
import { type Outcome, protocolVersion, type UploadedTransaction, type WireChange } from '@koinon/core';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { row, thingSchema } from '../support/things.ts';
import { garden, World } from '../support/world.ts';

// The server stamps its own plain inserts by itself on SQLite, and takes transactions in without savepoints as long as all
// are fine. Nobody may be able to tell: neither by the feed nor by the answers.

const beds = ['b1', 'b2', 'b3'] as const;
const bed = fc.constantFrom(...beds);
const name = fc.constantFrom('north', 'south', 'pond');
const change = fc.oneof(
  fc
    .record({ id: bed, name })
    .map(({ id, name }): WireChange => ({ kind: 'insert', table: 'bed', id, columns: { name, sunny: true } })),
  fc
    .record({ id: bed, name })
    .map(({ id, name }): WireChange => ({ kind: 'update', table: 'bed', id, columns: { name } })),
  bed.map((id): WireChange => ({ kind: 'delete', table: 'bed', id })),
  fc
    .record({ id: fc.constantFrom('p1', 'p2'), bed: fc.option(bed) })
    .map(
      ({ id, bed }): WireChange => ({ kind: 'insert', table: 'plant', id, columns: { bed, kind: 'herb', height: 1 } }),
    ),
  fc.constantFrom('p1', 'p2').map((id): WireChange => ({ kind: 'delete', table: 'plant', id })),
);
const push = fc.array(fc.array(change, { minLength: 1, maxLength: 3 }), { minLength: 1, maxLength: 6 });

/** A server's file, pushes to it, and what they left. */
async function target(inert: boolean) {
  const world = await World.of(garden);
  const shell = await world.shell();
  const replica = randomUUID();
  // With a trigger of the app's own on a table, Koinon's triggers do all the stamping.
  if (inert)
    for (const table of ['bed', 'plant'])
      await shell.exec(`CREATE TRIGGER app_${table} AFTER INSERT ON ${table} BEGIN SELECT 1; END`);
  return {
    shell,
    async push(transactions: readonly UploadedTransaction[]): Promise<readonly Outcome[]> {
      const answer = await fetch(`${world.server.url}/v${protocolVersion}/push`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ replica, base: null, transactions }),
      });
      expect(answer.status).toBe(200);
      return ((await answer.json()) as { outcomes: Outcome[] }).outcomes;
    },
    async left() {
      return {
        beds: await shell.all('SELECT * FROM bed ORDER BY id'),
        plants: await shell.all('SELECT * FROM plant ORDER BY id'),
        stamps: await shell.all(
          'SELECT table_name, row_id, position, born, row_position, row_edited_at, row_receipt, deleted, columns, image, past FROM koinon_stamp ORDER BY 1, 2',
        ),
        receipts: await shell.all('SELECT id, digest, outcome, position FROM koinon_receipt ORDER BY id'),
        feed: await shell.all('SELECT position FROM koinon_feed'),
        writer: await shell.all('SELECT receipt, edited_at, stamps FROM koinon_writer'),
      };
    },
    end: () => world.end(),
  };
}

test('what the server stamps by itself is what the triggers would stamp, whatever is pushed, refused and pushed again', async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(push, { minLength: 1, maxLength: 4 }), async (pushes) => {
      const named: string[] = [];
      const [own, triggered] = [await target(false), await target(true)];
      try {
        for (const given of pushes) {
          const transactions = given.map((changes) => {
            const id = randomUUID();
            // All that came before is its own, so that not everything is stale.
            const own = [...named];
            named.push(id);
            return { id, editedAt: '2026-06-01T10:00:00.000Z', dependsOn: own, changes };
          });
          const outcomes = await own.push(transactions);
          expect(outcomes).toEqual(await triggered.push(transactions));
          expect(await own.left()).toEqual(await triggered.left());
          // A lost reply: what was settled for good is answered as before and changes nothing.
          const before = await own.left();
          const settled = transactions.filter((_, i) => ['applied', 'rejected'].includes(outcomes[i]?.outcome ?? ''));
          if (settled.length > 0)
            expect((await own.push(settled)).map(({ outcome }) => outcome)).toEqual(
              outcomes.flatMap(({ outcome }) => (['applied', 'rejected'].includes(outcome) ? [outcome] : [])),
            );
          expect(await own.left()).toEqual(before);
        }
      } finally {
        await own.end();
        await triggered.end();
      }
    }),
    runs(12),
  );
});

test('a trigger that another program adds while the server runs, and what it writes, is in the feed', async () => {
  const { shell, push, left, end } = await target(false);
  const insert = (id: string): UploadedTransaction => ({
    id: randomUUID(),
    editedAt: '2026-06-01T10:00:00.000Z',
    dependsOn: [],
    changes: [{ kind: 'insert', table: 'bed', id, columns: { name: id, sunny: true } }],
  });
  try {
    await push([insert('a'), insert('b')]);
    const stamped = async () => (await left()).stamps.map((stamp) => `${stamp.table_name} ${stamp.row_id}`);
    expect(await stamped()).toEqual(['bed a', 'bed b']);
    // Writes another row of the same table, and one of another.
    await shell.exec(`CREATE TRIGGER app AFTER INSERT ON bed WHEN NEW.id NOT LIKE '%-copy' BEGIN
      INSERT INTO bed (id, name, sunny) VALUES (NEW.id || '-copy', NEW.name || ' copy', 0);
      INSERT INTO plant (id, bed, kind, watered, tags) VALUES (NEW.id || '-plant', NEW.id, 'herb', 0, '[]'); END`);
    await push([insert('c'), insert('d')]);
    expect(await stamped()).toEqual([
      'bed a',
      'bed b',
      'bed c',
      'bed c-copy',
      'bed d',
      'bed d-copy',
      'plant c-plant',
      'plant d-plant',
    ]);
    await shell.exec('DROP TRIGGER app');
    await push([insert('e'), insert('f')]);
    const positions = (await left()).stamps.map(({ position }) => position as number);
    expect(new Set(positions).size).toBe(positions.length);
    expect((await left()).feed).toEqual([{ position: Math.max(...positions) }]);
  } finally {
    await end();
  }
});

test('rows that go into the database in one statement are there to the last bit', async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(row, { minLength: 5, maxLength: 30 }), async (rows) => {
      const world = await World.of(thingSchema);
      try {
        const [sender, reader] = [await world.replica(), await world.replica()];
        for (const [n, given] of rows.entries())
          await sender.insert('thing', { ...given, id: `t${String(n).padStart(3, '0')}` });
        expect((await sender.sync()).up).toMatchObject({ applied: rows.length, rejected: 0 });
        await reader.sync();
        const all = { from: 'thing', order: 'id' } as const;
        expect(await reader.rows(all)).toEqual(await sender.rows(all));
        const [{ together }] = (await (
          await world.shell()
        ).all<{ together: number }>(
          "SELECT count(*) AS together FROM thing WHERE typeof(weight) IN ('real', 'null')",
        )) as [{ together: number }];
        expect(together).toBe(rows.length);
      } finally {
        await world.end();
      }
    }),
    runs(12),
  );
});
