import { randomUUID } from 'node:crypto';
import {
  action,
  integer,
  type Outcome,
  oneOf,
  protocolVersion,
  schema,
  table,
  text,
  type UploadedTransaction,
  type WireChange,
} from '@koinon/core';
import type { Handlers } from '@koinon/server';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import type { StoreKind } from '../support/stores.ts';
import { row, thingSchema } from '../support/things.ts';
import { garden, World } from '../support/world.ts';

// The server stamps its own plain inserts by itself on SQLite, and takes transactions in without savepoints, or with one that is
// set late, as long as all are fine. Nobody may be able to tell: neither by the feed nor by the answers.

const deeds = ['nothing', 'look', 'add', 'swallow', 'refuse', 'write and refuse', 'throw'] as const;
/** Those that refuse nothing come more often: what touches rows of something refused is blocked. */
const harmless = ['nothing', 'look', 'add', 'swallow'] as const;
const tables = {
  ...garden.tables,
  // Nothing refers to it, and it to nothing: its rows are put off until somebody looks.
  label: table({ words: text({ unique: true }) }),
};
const worked = schema(tables, {
  actions: { work: action({ input: { deed: oneOf(deeds), bed: text() }, result: { beds: integer() } }) },
});
const actions: Handlers<typeof worked> = {
  async work({ deed, bed }, { get, query, insert, update, refuse }) {
    const count = async () => Number((await query<{ n: unknown }>('SELECT count(*) AS n FROM bed'))[0]?.n);
    if (deed === 'nothing') return { beds: 0 };
    if (deed === 'refuse') refuse('The gardener is away.');
    if (deed === 'throw') throw new Error('a spade broke');
    // Goes on where the name is taken, and where the database refuses what others of the upload have written.
    if (deed === 'add')
      await insert('label', { id: `of ${bed}`, words: `name ${Number(bed.slice(1)) % 5}` }).catch(() =>
        update('bed', bed, { sunny: false }),
      );
    if (deed === 'swallow') await get('plant', 'p0').catch(() => undefined);
    if (deed === 'write and refuse') await update('bed', bed, { name: 'moved' }).then(() => refuse('Not here.'));
    return { beds: await count() };
  },
};

/** Beds that are there from the beginning, and those that come and go. */
const standing = fc.nat(7).map((n) => `s${n}`);
const standingBeds = Array.from(
  { length: 8 },
  (_, n): WireChange => ({
    kind: 'insert',
    table: 'bed',
    id: `s${n}`,
    columns: { name: `standing ${n}`, sunny: true },
  }),
);
const passing = fc.nat(60).map((n) => `b${n}`);
const bed = fc.oneof(standing, passing);
const plant = fc.nat(60).map((n) => `p${n}`);
// Few of them are taken.
const name = fc.nat(60).map((n) => `name ${n}`);
const change = fc.oneof(
  {
    weight: 8,
    arbitrary: fc
      .record({ id: fc.nat(60).map((n) => `l${n}`), words: name })
      .map(({ id, words }): WireChange => ({ kind: 'insert', table: 'label', id, columns: { words } })),
  },
  {
    weight: 4,
    arbitrary: fc
      .record({ id: passing, name })
      .map(({ id, name }): WireChange => ({ kind: 'insert', table: 'bed', id, columns: { name, sunny: true } })),
  },
  {
    weight: 6,
    arbitrary: fc.record({ id: plant, bed: standing }).map(
      ({ id, bed }): WireChange => ({
        ...{ kind: 'insert', table: 'plant', id },
        columns: { bed, kind: 'herb', height: 1 },
      }),
    ),
  },
  {
    weight: 6,
    arbitrary: fc
      .record({ id: standing, name })
      .map(({ id, name }): WireChange => ({ kind: 'update', table: 'bed', id, columns: { name } })),
  },
  bed.map((id): WireChange => ({ kind: 'delete', table: 'bed', id })),
);
/** A transaction as it is made up: what it changes, and the action that it calls. */
interface Given {
  readonly changes: WireChange[];
  readonly call: { readonly deed: (typeof deeds)[number]; readonly bed: string; readonly after: number } | null;
}
const transaction: fc.Arbitrary<Given> = fc.record({
  changes: fc.array(change, { minLength: 1, maxLength: 2 }),
  call: fc.option(fc.record({ deed: fc.constantFrom(...deeds, ...harmless, ...harmless), bed, after: fc.nat(2) })),
});
const push = fc.array(transaction, { minLength: 4, maxLength: 12 });

/** A new label, whose row is put off, and what a handler does after it. */
const label = (id: string, words: string, deed?: (typeof deeds)[number]): Given => ({
  changes: [{ kind: 'insert', table: 'label', id, columns: { words } }],
  call: deed === undefined ? null : { deed, bed: 's0', after: 1 },
});
const [first, taken] = [label('l1', 'name 1'), label('l2', 'name 1')];
/** Two beds that change their names, each of which is the other's until then. */
const swap: Given = {
  changes: [0, 1].map(
    (n): WireChange => ({ kind: 'update', table: 'bed', id: `s${n}`, columns: { name: `standing ${1 - n}` } }),
  ),
  call: { deed: 'nothing', bed: 's0', after: 2 },
};
/** Uploads in which handlers meet rows that are put off, or rows that cannot be written in their order. */
const meetings: readonly Given[][] = [
  [first, swap],
  // The words of the second label are taken. The handler of its transaction throws, and never asked the database.
  [first, label('l2', 'name 1', 'throw')],
  // A handler of a later transaction asks the database, and catches the error.
  [first, taken, label('l3', 'name 3', 'swallow'), label('l4', 'name 4')],
  // A handler of an earlier transaction has asked the database before.
  [first, label('l2', 'name 2', 'look'), taken, label('l3', 'name 3', 'nothing')],
  // The label of the first transaction stays, and that of the second is taken back.
  [first, label('l2', 'name 2', 'refuse'), label('l3', 'name 3', 'look')],
  [first, label('l2', 'name 2', 'write and refuse'), label('l3', 'name 3')],
];

/** A way in which a server writes what is pushed: as it likes; with triggers that stamp everything; or each transaction with a savepoint. */
type Way = 'plain' | 'triggered' | 'guarded';

/** A server's database, pushes to it, and what they left. */
async function target(kind: StoreKind, way: Way) {
  const rules = way === 'guarded' ? { plant: { validate: () => undefined } } : {};
  const world = await World.of(worked, kind, { actions, rules });
  const shell = await world.shell();
  const replica = randomUUID();
  // With a trigger of the app's own on a table, Koinon's triggers do all the stamping.
  if (way === 'triggered')
    for (const table of ['bed', 'plant', 'label'])
      await shell.exec(`CREATE TRIGGER app_${table} AFTER INSERT ON ${table} BEGIN SELECT 1; END`);
  const rows = async () => ({
    beds: await shell.all('SELECT * FROM bed ORDER BY id'),
    plants: await shell.all('SELECT * FROM plant ORDER BY id'),
    labels: await shell.all('SELECT * FROM label ORDER BY id'),
  });
  return {
    shell,
    async push(transactions: readonly UploadedTransaction[]): Promise<readonly Outcome[]> {
      const answer = await fetch(`${world.server.url}/v${protocolVersion}/push`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ replica, base: null, transactions }),
      });
      expect(answer.status).toBe(200);
      const { outcomes } = (await answer.json()) as { outcomes: Outcome[] };
      // PostgreSQL's are the numbers of its transactions.
      return kind === 'SQLite' ? outcomes : outcomes.map((outcome) => ({ ...outcome, position: 0 }));
    },
    async left(): Promise<Readonly<Record<string, readonly Record<string, unknown>[]>>> {
      if (kind === 'PostgreSQL')
        return {
          ...(await rows()),
          receipts: await shell.all('SELECT id, digest, outcome FROM koinon.receipt ORDER BY id'),
        };
      return {
        ...(await rows()),
        stamps: await shell.all(
          'SELECT table_name, row_id, position, born, row_position, CASE WHEN row_receipt IS NULL THEN 0 ELSE row_edited_at END, row_receipt, deleted, image, past FROM koinon_stamp ORDER BY 1, 2',
        ),
        columns: await shell.all(
          'SELECT table_name, row_id, key, value ->> 0 AS position, value ->> 2 AS receipt FROM koinon_stamp s, json_each(s.columns) ORDER BY 1, 2, 3',
        ),
        receipts: await shell.all('SELECT id, digest, outcome, position FROM koinon_receipt ORDER BY id'),
        results: await shell.all('SELECT receipt, id, result FROM koinon_action_result ORDER BY 1, 2'),
        feed: await shell.all('SELECT position FROM koinon_feed'),
        writer: await shell.all('SELECT receipt, edited_at, stamps FROM koinon_writer'),
      };
    },
    end: () => world.end(),
  };
}

test.each([
  ['SQLite', ['plain', 'triggered', 'guarded']],
  ['PostgreSQL', ['plain', 'guarded']],
] as const)(
  '%s: what was pushed, refused and pushed again leaves the same, in whatever way it is written',
  async (kind, ways) => {
    await fc.assert(
      fc.asyncProperty(fc.array(push, { minLength: 1, maxLength: 4 }), async (pushes) => {
        const targets = await Promise.all(ways.map((way) => target(kind, way)));
        const [own, ...others] = targets as [Target, ...Target[]];
        const first = { id: randomUUID(), editedAt: '2026-06-01T10:00:00.000Z', dependsOn: [], changes: standingBeds };
        const named: string[] = [first.id];
        try {
          for (const each of targets) await each.push([first]);
          for (const given of pushes) {
            const transactions = given.map(({ changes, call }): UploadedTransaction => {
              const id = randomUUID();
              // All that came before is its own, so that not everything is stale.
              const own = [...named];
              named.push(id);
              const { after = 0, ...input } = call ?? {};
              const calls = [
                { id: randomUUID(), name: 'work', input, refersTo: [], after: Math.min(after, changes.length) },
              ];
              return {
                id,
                editedAt: '2026-06-01T10:00:00.000Z',
                dependsOn: own,
                changes,
                ...(call && { actions: calls }),
              };
            });
            const outcomes = await own.push(transactions);
            for (const other of others) {
              expect(outcomes).toEqual(await other.push(transactions));
              expect(await own.left()).toEqual(await other.left());
            }
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
          for (const each of targets) await each.end();
        }
      }),
      { ...runs(16), examples: meetings.map((meeting): [Given[][]] => [[meeting]]) },
    );
  },
);

type Target = Awaited<ReturnType<typeof target>>;

test('a trigger that another program adds while the server runs, and what it writes, is in the feed', async () => {
  const { shell, push, left, end } = await target('SQLite', 'plain');
  const insert = (id: string): UploadedTransaction => ({
    id: randomUUID(),
    editedAt: '2026-06-01T10:00:00.000Z',
    dependsOn: [],
    changes: [{ kind: 'insert', table: 'bed', id, columns: { name: id, sunny: true } }],
  });
  try {
    await push([insert('a'), insert('b')]);
    const stamped = async () => ((await left()).stamps ?? []).map((stamp) => `${stamp.table_name} ${stamp.row_id}`);
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
    const positions = ((await left()).stamps ?? []).map(({ position }) => position as number);
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
