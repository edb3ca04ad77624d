import { openReplica } from '@koinon/client';
import { postgresDdl, postgresStore, startServer } from '@koinon/server';
import fc from 'fast-check';
import { afterEach, beforeEach, expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { newDatabase, type Shell } from '../support/stores.ts';
import { garden, plantedBy, rowsOf, World } from '../support/world.ts';

// The particularities of PostgreSQL: transactions that overlap, the many ways to write a table, several servers.

let world: World;
let office: Shell;

beforeEach(async () => {
  world = await World.of(garden, 'PostgreSQL');
  office = await plantedBy(world);
});
afterEach(() => world.end());

test('history 6: a push based between a late commit and an earlier one of a higher id is stale', async () => {
  const replica = await world.replica();
  const late = await world.shell();
  await late.exec("BEGIN; UPDATE plant SET height = 10 WHERE id = 'B'");
  // The higher transaction id commits first; the lower one touches the same column of the same row afterwards.
  await office.exec("UPDATE plant SET label = 'higher' WHERE id = 'A'");
  await replica.sync();
  expect(await replica.get('plant', 'A')).toMatchObject({ label: 'higher' });
  await late.exec("UPDATE plant SET label = 'lower, later' WHERE id = 'A'; COMMIT");
  await replica.update('plant', 'A', { label: 'from the device' });
  expect((await replica.sync({ direction: 'push' })).up).toMatchObject({ applied: 0, stale: 1 });
  await replica.sync();
  expect(await replica.conflicts()).toMatchObject([{ base: 'higher', remote: 'lower, later' }]);
  expect(await replica.get('plant', 'B')).toMatchObject({ height: 10 });
});

test('history 6: an open transaction, here or in another database, neither delays nor hides what others do', async () => {
  const elsewhere = await World.of(garden, 'PostgreSQL');
  const far = await elsewhere.shell();
  await far.exec("BEGIN; INSERT INTO bed VALUES ('x', 'x', true)");
  const open = await world.shell();
  await open.exec("BEGIN; UPDATE plant SET height = 50 WHERE id = 'B'");
  const replica = await world.replica();
  await replica.sync();
  for (let n = 0; n < 3; n++) {
    await office.exec(`UPDATE plant SET height = ${n} WHERE id = 'A'`);
    expect((await replica.sync()).received).toBe(1);
    expect(await replica.get('plant', 'A')).toMatchObject({ height: n });
    expect((await replica.sync()).received).toBe(0);
  }
  // A push of other rows goes through at once; one of the locked row waits, and holds up nothing but itself.
  await replica.update('plant', 'B', { label: 'typed meanwhile' });
  await replica.update('plant', 'A', { label: 'other row' });
  expect((await replica.sync()).up).toEqual({ applied: 1, stale: 0, waiting: 1, rejected: 0 });
  expect(await replica.status()).toMatchObject({ pending: 1 });
  await open.exec('COMMIT');
  expect((await replica.sync()).up).toMatchObject({ applied: 1 });
  expect(await rowsOf(replica)).toEqual(await rowsOf(office));
  expect(await replica.get('plant', 'B')).toMatchObject({ height: 50, label: 'typed meanwhile' });
  await elsewhere.end();
});

test('history 7: what one transaction moved between two rows is never seen by halves when a pull has finished', async () => {
  const replica = await world.replica();
  await replica.sync();
  const writer = await world.shell();
  await writer.exec("BEGIN; INSERT INTO bed VALUES ('w', 'held open', true)");
  await office.exec(
    "BEGIN; UPDATE plant SET height = 0 WHERE id = 'A'; UPDATE plant SET height = 3 WHERE id = 'B'; COMMIT",
  );
  await office.exec("UPDATE plant SET label = 'edited after' WHERE id = 'A'");
  const heights = async () => (await replica.rows({ from: 'plant', order: 'id' })).map(({ height }) => height);
  await replica.sync();
  expect(await heights()).toEqual([0, 3]);
  await writer.exec('COMMIT');
  await replica.sync();
  expect(await replica.count({ from: 'bed' })).toBe(3);
  expect(await heights()).toEqual([0, 3]);
});

test('transactions of any length, open across pulls in pages of any size: nothing is lost, torn or sent for ever', () => {
  const step = fc.record({ who: fc.nat(2), row: fc.nat(7), ends: fc.boolean(), limit: fc.constantFrom(0, 0, 0, 1, 2) });
  return fc.assert(
    fc.asyncProperty(fc.array(step, { minLength: 5, maxLength: 40 }), async (steps) => {
      const own = await World.of(garden, 'PostgreSQL');
      try {
        const shells = [await own.shell(), await own.shell(), await own.shell()];
        await shells[0]?.exec("INSERT INTO bed SELECT 'b' || n, 'bed ' || n, true FROM generate_series(0, 7) n");
        const held = new Map<string, number>();
        const open = [new Set<number>(), new Set<number>(), new Set<number>()];
        let cursor: string | undefined;
        const seen = new Map<string, unknown>();
        const pull = async (limit: number) => {
          const { lines } = await own.request('/v1/pull', { ...(cursor ? { cursor } : {}), limit });
          const [header, ...rows] = lines as unknown as [
            { cursor: string; more: boolean; rows: number },
            ...{ kind: string; id: string; columns: object }[],
          ];
          cursor = header.cursor;
          for (const { kind, id, columns } of rows)
            if (kind === 'delete') seen.delete(id);
            else seen.set(id, { ...(kind === 'update' ? (seen.get(id) as object) : {}), ...columns });
          return header;
        };
        for (const [n, { who, row, ends, limit }] of steps.entries()) {
          const shell = shells[who] as Shell;
          const mine = open[who] as Set<number>;
          // A row that another open transaction holds would wait for it.
          const isFree = !open.some((rows, other) => other !== who && rows.has(row));
          if (isFree) {
            if (mine.size === 0) await shell.exec('BEGIN');
            await shell.exec(`UPDATE bed SET name = 'by ${who} at ${n}' WHERE id = 'b${row}'`);
            mine.add(row);
            held.set(`b${row}`, n);
          }
          if (ends && mine.size > 0) {
            await shell.exec('COMMIT');
            mine.clear();
          }
          if (limit > 0) await pull(limit);
        }
        for (const [who, mine] of open.entries()) if (mine.size > 0) await shells[who]?.exec('COMMIT');
        let pages = 0;
        while ((await pull(2)).more) expect(++pages).toBeLessThan(40);
        const names = await shells[0]?.all<{ id: string; name: string }>('SELECT id, name FROM bed ORDER BY id');
        expect(
          [...seen]
            .map(([id, row]) => ({ id, name: (row as { name: string }).name }))
            .sort((a, b) => (a.id < b.id ? -1 : 1)),
        ).toEqual(names);
        expect((await pull(100)).rows).toBe(0);
      } finally {
        await own.end();
      }
    }),
    runs(15),
  );
});

test('history 12: ON CONFLICT, COPY, TRUNCATE, cascades by two references, key updates, partitions, MERGE, replication: all are in the feed', async () => {
  const database = await newDatabase('PostgreSQL', world.folder);
  const shell = await database.shell();
  await shell.exec(`CREATE TABLE bed (id text PRIMARY KEY, name text UNIQUE NOT NULL, sunny boolean NOT NULL DEFAULT true);
    CREATE TABLE plant (id text PRIMARY KEY, bed text NOT NULL REFERENCES bed ON DELETE CASCADE ON UPDATE CASCADE, kind text NOT NULL DEFAULT 'herb', label text REFERENCES bed ON DELETE SET NULL ON UPDATE CASCADE, height bigint DEFAULT 0, watered bigint NOT NULL DEFAULT 0, tags jsonb NOT NULL DEFAULT '[]') PARTITION BY HASH (id);
    CREATE TABLE plant_0 PARTITION OF plant FOR VALUES WITH (MODULUS 2, REMAINDER 0);
    CREATE TABLE plant_1 (tags jsonb NOT NULL DEFAULT '[]', id text NOT NULL, bed text NOT NULL, kind text NOT NULL DEFAULT 'herb', label text, watered bigint NOT NULL DEFAULT 0, height bigint DEFAULT 0);
    INSERT INTO bed VALUES ('b0', 'n0')`);
  const server = await startServer({ store: await database.open(garden), port: 0 });
  await shell.exec(`CREATE FUNCTION stays() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
      IF OLD.height BETWEEN 0 AND 0 AND NOT EXISTS (SELECT FROM plant WHERE id = OLD.id) THEN
        INSERT INTO plant (id, bed, height) VALUES (OLD.id, OLD.bed, 1); END IF; RETURN NULL; END $$;
    CREATE FUNCTION goes() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN DELETE FROM plant WHERE id = NEW.id; RETURN NULL; END $$;
    CREATE TRIGGER goes AFTER INSERT OR UPDATE ON plant FOR EACH ROW WHEN (NEW.height = 99) EXECUTE FUNCTION goes();
    CREATE TRIGGER stays AFTER DELETE ON plant FOR EACH ROW WHEN (pg_trigger_depth() = 0) EXECUTE FUNCTION stays()`);
  // A leaf that comes later brings its rows along, and is followed from then on.
  await shell.exec(`INSERT INTO plant_1 (id, bed) SELECT 'p' || n, 'b0' FROM generate_series(0, 99) n WHERE satisfies_hash_partition('plant'::regclass, 2, 1, 'p' || n);
    ALTER TABLE plant ATTACH PARTITION plant_1 FOR VALUES WITH (MODULUS 2, REMAINDER 1)`);
  expect(await postgresDdl(garden, database.address)).toEqual([]);
  const replica = await openReplica({ schema: garden, server: server.url });
  await replica.sync();
  expect(await replica.count({ from: 'plant' })).toBeGreaterThan(10);
  const bed = fc.nat(3).map((n) => `b${n}`);
  const plant = fc.nat(5).map((n) => `p${n}`);
  const statement = fc.oneof(
    fc
      .tuple(bed, fc.nat(4))
      .map(
        ([b, n]) =>
          `INSERT INTO bed VALUES ('${b}', 'n${n}') ON CONFLICT (id) DO UPDATE SET name = excluded.name, sunny = NOT bed.sunny`,
      ),
    fc
      .tuple(plant, bed, bed)
      .map(
        ([p, b, l]) =>
          `INSERT INTO plant (id, bed, label) VALUES ('${p}', '${b}', '${l}') ON CONFLICT (id) DO UPDATE SET bed = excluded.bed, label = excluded.label`,
      ),
    fc.tuple(plant, bed).map(([p, b]) => `COPY plant (id, bed) FROM PROGRAM 'printf "${p}\\t${b}\\n"'`),
    fc.constant('TRUNCATE plant'),
    fc.constant('TRUNCATE bed CASCADE'),
    bed.map((b) => `DELETE FROM bed WHERE id = '${b}'`),
    // The same rows by two references, and keys that change places with each other's.
    fc.tuple(bed, bed).map(([a, b]) => `UPDATE bed SET id = '${b}' WHERE id = '${a}'`),
    fc
      .tuple(plant, plant)
      .map(
        ([a, b]) =>
          `UPDATE plant SET id = CASE id WHEN '${a}' THEN '${b}' ELSE '${a}' END, height = height + 1 WHERE id IN ('${a}', '${b}')`,
      ),
    fc.constantFrom('plant_0', 'plant_1').map((leaf) => `UPDATE ${leaf} SET height = height + 1`),
    fc.constantFrom('plant_0', 'plant_1').map((leaf) => `DELETE FROM ${leaf} WHERE height > 1`),
    fc
      .tuple(plant, bed)
      .map(
        ([p, b]) =>
          `MERGE INTO plant USING (VALUES ('${p}', '${b}')) s (id, bed) ON plant.id = s.id WHEN MATCHED AND plant.height > 2 THEN DELETE WHEN MATCHED THEN UPDATE SET bed = s.bed, height = plant.height + 1 WHEN NOT MATCHED THEN INSERT (id, bed) VALUES (s.id, s.bed)`,
      ),
    fc
      .tuple(plant, bed)
      .map(
        ([p, b]) =>
          `WITH gone AS (DELETE FROM plant WHERE id = '${p}' RETURNING *) INSERT INTO plant (id, bed) SELECT id || 'x', '${b}' FROM gone ON CONFLICT DO NOTHING`,
      ),
    // Gone and there again within one statement, by a rule of the office's own.
    plant.map((p) => `DELETE FROM plant WHERE id = '${p}' OR height < 0`),
    fc
      .tuple(plant, bed)
      .map(
        ([p, b]) =>
          `INSERT INTO plant (id, bed, height) VALUES ('${p}', '${b}', 99) ON CONFLICT (id) DO UPDATE SET height = 99`,
      ),
    plant.map(
      (p) =>
        `UPDATE plant SET id = id || 'x', height = -1 WHERE id = '${p}' AND NOT EXISTS (SELECT FROM plant WHERE id = '${p}x')`,
    ),
    // As a subscriber of logical replication applies it: statement triggers do not fire then.
    fc
      .tuple(plant, fc.nat(9))
      .map(
        ([p, n]) =>
          `BEGIN; SET LOCAL session_replication_role = replica; UPDATE plant SET watered = ${n} WHERE id = '${p}'; DELETE FROM plant WHERE id = '${p}x'; COMMIT`,
      ),
  );
  await fc.assert(
    fc.asyncProperty(fc.array(statement, { minLength: 1, maxLength: 5 }), async (statements) => {
      await shell.exec(`INSERT INTO bed SELECT 'b' || n, 'n' || n FROM generate_series(0, 3) n ON CONFLICT DO NOTHING;
        INSERT INTO plant (id, bed, label) SELECT p, 'b' || length(p), 'b' || right(p, 1) FROM unnest('{p0,p1,p2,p3,p0x,p1x}'::text[]) p
        WHERE EXISTS (SELECT FROM bed WHERE id = 'b' || length(p)) AND EXISTS (SELECT FROM bed WHERE id = 'b' || right(p, 1)) ON CONFLICT DO NOTHING`);
      await replica.sync();
      for (const sql of statements)
        await shell.exec(sql).catch(async (error: Error) => {
          // A constraint said no, as it may; the statement did nothing.
          if (!/constraint/.test(error.message)) throw error;
          await shell.exec('ROLLBACK');
        });
      await replica.sync();
      expect(await rowsOf(replica)).toEqual(await rowsOf(shell));
    }),
    runs(150),
  );
  // Statements of many rows: the same columns in each, others in some, keys that move on, and rows shown twice by cascades.
  await shell.exec(
    "TRUNCATE bed CASCADE; INSERT INTO bed VALUES ('b1', 'n1'), ('b2', 'n2'); INSERT INTO plant (id, bed, label) SELECT 'r' || n, 'b1', 'b1' FROM generate_series(100, 499) n",
  );
  for (const sql of [
    'UPDATE plant SET height = 5',
    "UPDATE plant SET height = 6, kind = CASE WHEN id < 'r200' THEN 'tree' ELSE kind END",
    "UPDATE plant SET watered = watered + CASE WHEN id < 'r300' THEN 1 ELSE 0 END",
    "UPDATE plant SET id = 's' || id, height = 7 WHERE id < 'r150'",
    "UPDATE bed SET id = 'b3' WHERE id = 'b1'",
    "UPDATE plant SET height = CASE WHEN id < 'r160' THEN 99 ELSE 8 END",
    "UPDATE plant SET label = NULL WHERE id = 'r300'",
    "UPDATE plant SET label = NULL WHERE id = 'r300'",
  ]) {
    await shell.exec(sql);
    await replica.sync();
    expect(await rowsOf(replica), sql).toEqual(await rowsOf(shell));
  }
  expect((await replica.sync()).received).toBe(0);
  await shell.exec(
    "INSERT INTO bed VALUES ('b0', 'n0') ON CONFLICT DO NOTHING; INSERT INTO plant (id, bed) SELECT 'q' || n, id FROM bed, generate_series(0, 9) n WHERE id = 'b0'; ALTER TABLE plant DETACH PARTITION plant_0",
  );
  await replica.sync();
  expect(await rowsOf(replica)).toEqual(await rowsOf(shell));
  await replica.close();
  await server.close();
  await shell.close();
  await database.drop();
});

test('several server processes serve one database; replicas move between them, and a transaction sent to both is applied once', async () => {
  const other = await startServer({ store: await postgresStore(garden, world.database.address), port: 0 });
  const [one, two] = [await world.replica(), await world.replica({ server: other.url })];
  await Promise.all([one.sync(), two.sync()]);
  await Promise.all(
    [one, two].map(async (replica) => {
      for (let n = 0; n < 30; n++) {
        await replica.add('plant', n % 2 ? 'A' : 'B', 'watered', 1);
        if (n % 10 === 9) await replica.sync();
      }
    }),
  );
  const body = JSON.stringify({
    replica: (await one.status()).replicaId,
    base: null,
    transactions: [
      {
        id: '00000000-0000-4000-8000-000000000001',
        editedAt: new Date().toISOString(),
        changes: [{ kind: 'update', table: 'plant', id: 'A', operations: { watered: { add: 1000 } } }],
      },
    ],
  });
  const send = (url: string) =>
    fetch(`${url}/v1/push`, { method: 'POST', headers: { 'content-type': 'application/json' }, body }).then((answer) =>
      answer.json(),
    );
  const answers = await Promise.all([send(world.server.url), send(other.url), send(world.server.url), send(other.url)]);
  expect(answers).toMatchObject(Array(4).fill({ outcomes: [{ outcome: 'applied' }] }));
  await one.close();
  const moved = await world.replica({ file: 'replica-1.db', server: other.url });
  for (const replica of [moved, two]) {
    await replica.sync();
    expect(await rowsOf(replica)).toEqual(await rowsOf(office));
  }
  expect(await rowsOf(office)).toMatchObject({ 'plant A': { watered: 1030 }, 'plant B': { watered: 30 } });
  await other.close();
});

test('whoever follows for a moment only leaves no connection behind, and none that a closing server would wait for', async () => {
  const store = await world.database.open(garden);
  for (let n = 0; n < 12; n++) {
    const leave = store.watch(() => undefined);
    await new Promise((done) => setTimeout(done, n));
    leave();
  }
  expect(await store.read(async (reader) => store.ordinal(await reader.position()))).toBeGreaterThan(0);
  store.watch(() => undefined)();
  await store.close();
});
