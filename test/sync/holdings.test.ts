import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { inspectReplica, openReplica, type Replica, type Transport } from '@koinon/client';
import { action, integer, KoinonError, reference, schema, sql, table, text } from '@koinon/core';
import { type Handlers, type Scopes, serveInProcess, startServer } from '@koinon/server';
import fc from 'fast-check';
import { afterEach, describe, expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { newDatabase, type StoreKind, storeKinds } from '../support/stores.ts';
import { never } from '../support/world.ts';

// Rows that an app asks for at run time, beside those that it always has.

const tables = {
  site: table({ keeper: text({ filterable: true }), name: text() }),
  hive: table({
    keeper: text({ filterable: true }),
    site: reference('site', { filterable: true }),
    mark: text({ merge: 'ask' }),
    note: text({ default: '' }),
    frames: integer({ default: 0 }),
  }),
  tool: table({ name: text() }),
};
const apiary = schema(tables, { actions: { marked: action({ input: { hive: reference('hive'), mark: text() } }) } });
type Apiary = typeof apiary;
const scopes: Scopes<Apiary> = {
  site: { read: 'all' },
  hive: { read: (user) => ({ keeper: user?.id ?? '' }) },
  tool: 'all',
};

const actions: Handlers<Apiary> = {
  marked: ({ hive, mark }, { update }) => update('hive', hive, { mark: `${mark} by the office` }),
};

const over: (() => Promise<unknown>)[] = [];
afterEach(async () => {
  for (const end of over.splice(0).reverse()) await end();
});

async function world(kind: StoreKind) {
  const folder = await mkdtemp(join(tmpdir(), 'koinon-holdings-'));
  const database = await newDatabase(kind, folder);
  const store = await database.open(apiary);
  const server = serveInProcess({ store, scopes, actions });
  const shell = await database.shell();
  over.push(async () => {
    await shell.close();
    await server.close();
    await store.close();
    await database.drop();
    await rm(folder, { recursive: true, force: true });
  });
  for (const site of ['a', 'b', 'c'])
    await shell.exec(`INSERT INTO site (id, keeper, name) VALUES ('${site}', 'ida', 'Site ${site}')`);
  return {
    folder,
    shell,
    /** Hives of a keeper at a site. */
    hives: (site: string, keeper: string, ids: readonly string[]) =>
      shell.exec(
        `INSERT INTO hive (id, keeper, site, mark, frames) VALUES ${ids.map((id) => `('${id}', '${keeper}', '${site}', 'm', 0)`).join()}`,
      ),
    async device(file?: string, way: (to: Transport) => Transport = (to) => to): Promise<Replica<Apiary>> {
      const replica = await openReplica({
        ...{ schema: apiary, server: way(server.connect({ id: 'ida', claims: {} })) },
        ...{ only: { tables: ['site'] }, sync: { when: never, live: false } },
        ...(file && { file: join(folder, file) }),
      });
      over.push(() => replica.close().catch(() => undefined));
      return replica;
    },
  };
}

const idsOf = async (replica: Replica<Apiary>) => (await replica.rows({ from: 'hive' })).map(({ id }) => id).sort();
const states = async (replica: Replica<Apiary>) =>
  Object.fromEntries((await replica.holdings()).map(({ id, state, rows }) => [id, `${state} ${rows}`]));

test('over a live connection a holding comes and goes by itself, and goes only when what was typed into it is sent', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'koinon-holdings-'));
  const database = await newDatabase('SQLite', folder);
  const server = await startServer({ store: await database.open(apiary), actions, port: 0 });
  const shell = await database.shell();
  await shell.exec("INSERT INTO site (id, keeper, name) VALUES ('a', 'ida', 'Site a')");
  await shell.exec("INSERT INTO hive (id, keeper, site, mark, frames) VALUES ('a1', 'ida', 'a', 'm', 0)");
  const replica = await openReplica({ schema: apiary, server: server.url, only: { tables: ['site'] }, sync: {} });
  over.push(async () => {
    await replica.close();
    await shell.close();
    await server.close();
    await rm(folder, { recursive: true, force: true });
  });
  const phase = replica.syncState();
  phase.subscribe(() => undefined);
  const isLive = () => expect.poll(() => phase.current.rows[0]?.phase, { timeout: 10_000 }).toBe('live');
  await isLive();
  await replica.hold('trip', { from: 'hive', where: { site: 'a' } });
  await expect.poll(() => states(replica), { timeout: 10_000 }).toEqual({ trip: 'here 1' });
  await isLive();
  // Followed live, as long as it is held.
  await shell.exec("UPDATE hive SET mark = 'n' WHERE id = 'a1'");
  await expect.poll(async () => (await replica.get('hive', 'a1'))?.mark, { timeout: 10_000 }).toBe('n');
  await replica.update('hive', 'a1', { frames: 3 });
  await replica.letGo('trip');
  await expect.poll(() => idsOf(replica), { timeout: 10_000 }).toEqual([]);
  // The list is empty when the last page of the difference has come.
  await expect.poll(() => replica.holdings(), { timeout: 10_000 }).toEqual([]);
  expect(await replica.rejections()).toEqual([]);
  expect(await shell.all('SELECT frames FROM hive')).toMatchObject([{ frames: 3 }]);
  for (const [rows, code] of [
    [{ from: 'nothing' }, 'unknown-table'],
    [{ from: 'hive', where: { mark: 'm' } }, 'query-invalid'],
    [{ from: 'hive', where: { nothing: 1 } }, 'unknown-column'],
    [{ from: 'hive', order: 'mark' }, 'argument-invalid'],
  ] as const)
    await expect(replica.hold('wrong', rows as never)).rejects.toMatchObject({ code });
  await expect(replica.hold('', { from: 'hive' })).rejects.toMatchObject({ code: 'argument-invalid' });
  for (let n = 0; n < 100; n++) await replica.hold(`holding ${n}`, { from: 'hive', where: { id: `h-${n}` } });
  await expect(replica.hold('one more', { from: 'hive' })).rejects.toMatchObject({ code: 'too-large' });
});

describe.each(storeKinds)('%s', (kind) => {
  test('H1, H2, H3, H5: rows come and go by name; only differences move; nothing comes, and nothing is counted, from outside the scope', async () => {
    const { device, hives, folder } = await world(kind);
    await hives('a', 'ida', ['a1', 'a2']);
    await hives('b', 'ida', ['b1']);
    await hives('a', 'runa', ['a-runa']);
    const replica = await device('phone.db');
    await replica.sync();
    expect(await idsOf(replica)).toEqual([]);
    expect(await replica.estimatePull({ from: 'hive', where: { site: 'a' } })).toMatchObject({ hive: { rows: 2 } });
    const lists: string[] = [];
    const stop = replica.liveHoldings().subscribe(({ rows }) => {
      lists.push(rows.map(({ id, state, rows: count }) => `${id} ${state} ${count}`).join());
    });
    await replica.hold('trip', { from: 'hive', where: { site: 'a' } });
    expect(await states(replica)).toEqual({ trip: 'arriving 0' });
    expect((await replica.sync()).down).toMatchObject({ insert: 2, leave: 0 });
    expect(await idsOf(replica)).toEqual(['a1', 'a2']);
    await expect.poll(() => lists.at(-1)).toBe('trip here 2');
    // The same again, and others that overlap.
    await replica.hold('trip', { from: 'hive', where: { site: 'a' } });
    await replica.hold('two sites', { from: 'hive', where: { site: { in: ['a', 'b'] } } });
    expect((await replica.sync()).down).toMatchObject({ insert: 1, leave: 0 });
    await replica.letGo('trip');
    expect((await replica.sync()).down).toMatchObject({ insert: 0, leave: 0 });
    expect(await states(replica)).toEqual({ 'two sites': 'here 3' });
    // Somebody else's hives: asked for in every way, none comes, and none is told of.
    for (const where of [{ keeper: 'runa' }, { id: 'a-runa' }, { or: [{ keeper: 'runa' }, { site: 'a' }] }]) {
      const counted = await replica.estimatePull({ from: 'hive', where });
      expect(counted.hive?.rows ?? 0).toBe('or' in where ? 2 : 0);
    }
    await replica.hold('others', { from: 'hive', where: { keeper: 'runa' } });
    await replica.sync();
    expect(await idsOf(replica)).toEqual(['a1', 'a2', 'b1']);
    // Unsent edits stay until they are sent, and are not refused.
    await replica.update('hive', 'a1', { frames: 7 });
    await replica.letGo('two sites');
    await replica.sync({ direction: 'pull' });
    expect(await states(replica)).toMatchObject({ 'two sites': 'leaving 3' });
    // Held again meanwhile: nothing moves for it.
    await replica.hold('two sites', { from: 'hive', where: { site: { in: ['a', 'b'] } } });
    expect((await replica.sync({ direction: 'pull' })).received).toBe(0);
    await replica.letGo('two sites');
    await replica.letGo('two sites');
    await replica.letGo('never held');
    await replica.close();
    // The list is in the file.
    const again = await device('phone.db');
    expect(await states(again)).toMatchObject({ 'two sites': 'leaving 3', others: 'here 0' });
    const look = await inspectReplica(join(folder, 'phone.db'));
    expect(look.holdings().map(({ name, state }) => `${name} ${state}`)).toEqual(['others here', 'two sites leaving']);
    look.close();
    await again.sync();
    expect([await idsOf(again), await states(again)]).toEqual([[], { others: 'here 0' }]);
    expect(await again.rejections()).toEqual([]);
    const other = await device();
    await other.hold('all', { from: 'hive' });
    await other.sync();
    expect(await other.rows({ from: 'hive', order: 'id' })).toMatchObject([
      { frames: 7 },
      { frames: 0 },
      { frames: 0 },
    ]);
    stop();
  });

  test('a row that a device makes outside of what it asks for takes each edit to the server, and leaves after the last', async () => {
    const { device, shell } = await world(kind);
    const replica = await device();
    await replica.sync();
    const heard: string[] = [];
    replica.listen('hive', (events) => void heard.push(...events.map(({ kind: what, id }) => `${what} ${id}`)));
    await replica.insert('hive', { id: 'new', keeper: 'ida', site: 'a', mark: 'first' });
    await replica.sync({ direction: 'push' });
    await replica.update('hive', 'new', { mark: 'second' });
    await replica.sync({ direction: 'pull' });
    expect(await replica.get('hive', 'new')).toMatchObject({ mark: 'second' });
    expect((await replica.sync()).up).toMatchObject({ applied: 1, rejected: 0 });
    expect([await idsOf(replica), await replica.outbox(), await replica.rejections()]).toEqual([[], [], []]);
    expect(heard).toEqual(['insert new', 'update new', 'leave new']);
    expect(await shell.all("SELECT mark FROM hive WHERE id = 'new'")).toMatchObject([{ mark: 'second' }]);
    // Asked for, it is here like any other.
    await replica.hold('mine', { from: 'hive', where: { keeper: 'ida' } });
    await replica.sync();
    expect(await idsOf(replica)).toEqual(['new']);
  });

  test('others write such a row meanwhile, or delete it, or it is moved away on the device itself: nothing is overwritten silently, or lost', async () => {
    const { device, folder, hives, shell } = await world(kind);
    let pulls = Number.POSITIVE_INFINITY;
    const replica = await device('phone.db', (to) => ({
      ...to,
      pull: (request, signal) =>
        pulls-- > 0 ? to.pull(request, signal) : Promise.reject(new KoinonError('server-unreachable', 'No signal.')),
    }));
    await replica.sync();
    const heard: string[] = [];
    replica.listen('hive', (events) => void heard.push(...events.map(({ kind: what, id }) => `${what} ${id}`)));
    // Written by the office, in the column that the device writes as well.
    const make = (id: string) =>
      replica.insert('hive', { id, keeper: 'ida', site: 'a', mark: 'first', note: 'one\n-\ntwo' });
    for (const id of ['new', 'gone']) await make(id);
    await replica.sync({ direction: 'push' });
    await shell.exec("UPDATE hive SET note = 'one by the office\n-\ntwo', mark = 'office' WHERE id = 'new'");
    await shell.exec("DELETE FROM hive WHERE id = 'gone'");
    await replica.update('hive', 'new', { note: 'one\n-\ntwo, typed', mark: 'typed' });
    await replica.update('hive', 'gone', { mark: 'typed' });
    // The signal is lost before the rows have come that were asked for: nothing goes up without having been merged.
    pulls = 1;
    await expect(replica.sync()).rejects.toThrow('No signal.');
    expect((await replica.sync({ direction: 'push' })).up).toMatchObject({ applied: 0 });
    pulls = Number.POSITIVE_INFINITY;
    await replica.sync();
    expect(await replica.conflicts()).toMatchObject([{ id: 'new', column: 'mark', local: 'typed', remote: 'office' }]);
    // The deleted one may be somebody else's by now: what was sent of it is erased.
    const look = await inspectReplica(join(folder, 'phone.db'));
    expect(look.select(sql`SELECT row_id FROM koinon_history WHERE row_id = 'gone'`)).toEqual([]);
    look.close();
    await replica.resolve('hive', 'new', { mark: 'local' });
    await replica.sync();
    const written = await shell.all('SELECT note, mark FROM hive');
    expect(written).toMatchObject([{ note: 'one by the office\n-\ntwo, typed', mark: 'typed' }]);
    // A deleted row cannot be told from one of somebody else: the edit is kept as refused.
    expect(await replica.rejections()).toMatchObject([{ rows: [{ id: 'gone' }], problems: [{ code: 'scope-left' }] }]);
    await replica.revertAll();
    // One that is asked for, and that no page names, was deleted: the edit makes it again.
    await replica.hold('mine', { from: 'hive', where: { keeper: 'ida' } });
    await replica.sync();
    heard.length = 0;
    for (const id of ['back', 'away']) await make(id);
    await replica.sync({ direction: 'push' });
    await shell.exec("DELETE FROM hive WHERE id IN ('back', 'away')");
    await replica.update('hive', 'back', { mark: 'typed' });
    expect((await replica.sync()).up).toMatchObject({ applied: 1, rejected: 0 });
    expect(await replica.get('hive', 'back')).toMatchObject({ mark: 'typed' });
    expect(heard).toContain('delete away');
    await replica.letGo('mine');
    // Moved out of a holding here, and edited before the pull that takes it away.
    await hives('b', 'ida', ['b1']);
    await replica.hold('site', { from: 'hive', where: { site: 'b' } });
    await replica.sync();
    await replica.update('hive', 'b1', { site: 'c' });
    await replica.sync({ direction: 'push' });
    await replica.update('hive', 'b1', { mark: 'later' });
    await replica.sync();
    await replica.sync();
    expect([await idsOf(replica), await replica.rejections(), await replica.outbox()]).toEqual([[], [], []]);
    expect(await shell.all("SELECT site, mark FROM hive WHERE id = 'b1'")).toMatchObject([
      { site: 'c', mark: 'later' },
    ]);
    expect(await states(replica)).toEqual({ site: 'here 0' });
  });

  test('an edit over what an action was expected to give to such a row goes up after the action', async () => {
    const { device, shell } = await world(kind);
    const replica = await device();
    await replica.sync();
    await replica.insert('hive', { id: 'new', keeper: 'ida', site: 'a', mark: 'first' });
    await replica.invoke(
      'marked',
      { hive: 'new', mark: 'office' },
      { locally: (data) => data.update('hive', 'new', { mark: 'office' }) },
    );
    await replica.update('hive', 'new', { mark: 'typed' });
    await replica.sync();
    await replica.sync();
    // The handler has written over it: its person is asked.
    expect(await replica.conflicts()).toMatchObject([{ column: 'mark', local: 'typed' }]);
    await replica.resolve('hive', 'new', { mark: 'local' });
    await replica.sync();
    expect([await idsOf(replica), await replica.outbox(), await replica.conflicts()]).toEqual([[], [], []]);
    expect(await shell.all("SELECT mark FROM hive WHERE id = 'new'")).toMatchObject([{ mark: 'typed' }]);
  });

  test('a row that was deleted and made anew under its id leaves with the holding that it came for', async () => {
    const { device, shell } = await world(kind);
    const make = "INSERT INTO tool (id, name) VALUES ('t0', 'smoker')";
    await shell.exec(`${make}; INSERT INTO tool (id, name) VALUES ('t1', 'scraper')`);
    const replica = await device();
    await replica.hold('both', { from: 'tool', where: { id: { in: ['t0', 't1'] } } });
    await replica.sync();
    await replica.hold('one', { from: 'tool', where: { id: 't1' } });
    await replica.letGo('both');
    await shell.exec(`DELETE FROM tool WHERE id = 't0'; ${make}`);
    await replica.sync();
    expect((await replica.rows({ from: 'tool' })).map(({ id }) => id)).toEqual(['t1']);
  });

  test('H6: a row that moves from one holding to another in one transaction is never away', async () => {
    const { device, hives, shell } = await world(kind);
    await hives('a', 'ida', ['a1']);
    await hives('b', 'ida', ['b1']);
    const replica = await device();
    for (const site of ['a', 'b']) await replica.hold(site, { from: 'hive', where: { site } });
    await replica.sync();
    const kinds: string[] = [];
    replica.listen('hive', (events) => void kinds.push(...events.map(({ kind: what, id }) => `${what} ${id}`)));
    await shell.exec("UPDATE hive SET site = CASE site WHEN 'a' THEN 'b' ELSE 'a' END");
    await replica.sync();
    expect([await idsOf(replica), kinds.sort()]).toEqual([
      ['a1', 'b1'],
      ['update a1', 'update b1'],
    ]);
  });

  test('H4: holdings, edits, moves and lost answers in any order: in the end each device has what it asks for, and each edit counts', async () => {
    const what = fc.oneof(
      fc.record({
        do: fc.constantFrom('hold', 'let go', 'hold in flight', 'let go in flight'),
        name: fc.nat(2),
        site: fc.nat(2),
      }),
      fc.record({
        do: fc.constantFrom('edit', 'move', 'office moves', 'office edits'),
        hive: fc.nat(5),
        site: fc.nat(2),
      }),
      fc.record({ do: fc.constantFrom('sync', 'sync', 'edit in flight', 'lost', 'reopen'), hive: fc.nat(5) }),
    );
    await fc.assert(
      fc.asyncProperty(fc.array(what, { maxLength: 25 }), (history) => survives(kind, history as readonly Step[])),
      { ...runs(kind === 'SQLite' ? 25 : 6) },
    );
  });
});

interface Step {
  readonly do: string;
  readonly name?: number;
  readonly site?: number;
  readonly hive?: number;
}

const sites = ['a', 'b', 'c'];

async function survives(kind: StoreKind, history: readonly Step[]): Promise<void> {
  const { device, hives, shell } = await world(kind);
  const ids = ['h0', 'h1', 'h2', 'h3', 'h4', 'h5'];
  for (const [n, id] of ids.entries()) await hives(sites[n % 3] as string, 'ida', [id]);
  /** Done while the next answer of a pull is on its way. */
  let inFlight: (() => Promise<void>) | 'lost' | undefined;
  const way = (to: Transport): Transport => ({
    ...to,
    async pull(request, signal) {
      const page = await to.pull({ ...request, limit: 2 }, signal);
      const meanwhile = inFlight;
      inFlight = undefined;
      if (meanwhile === 'lost') throw new TypeError('the answer was lost');
      await meanwhile?.();
      return page;
    },
  });
  let replica = await device('phone.db', way);
  /** The frames that were added to each hive: an office's and a device's edits alike. */
  const added = new Map<string, number>();
  const wanted = new Map<string, string>();
  const moved = new Set<string>();
  const edit = async (id: string) => {
    // A hive that is not here cannot be edited.
    if ((await replica.get('hive', id)) === undefined) return;
    await replica.update('hive', id, { mark: `${id} typed` });
    added.set(id, (added.get(id) ?? 0) + 1);
  };
  for (const step of history) {
    const id = ids[step.hive ?? 0] as string;
    const site = sites[step.site ?? 0] as string;
    const name = `holding ${step.name}`;
    const hold = async () => {
      await replica.hold(name, { from: 'hive', where: { site } });
      wanted.set(name, site);
    };
    const letGo = async () => {
      await replica.letGo(name);
      wanted.delete(name);
    };
    if (step.do === 'hold') await hold();
    else if (step.do === 'let go') await letGo();
    else if (step.do === 'edit') await edit(id);
    else if (step.do === 'move') {
      if ((await replica.get('hive', id)) !== undefined) await replica.update('hive', id, { site });
    } else if (step.do === 'office moves') {
      moved.add(id);
      await shell.exec(`UPDATE hive SET site = '${site}' WHERE id = '${id}'`);
    } else if (step.do === 'office edits') await shell.exec(`UPDATE hive SET frames = frames + 1 WHERE id = '${id}'`);
    else if (step.do === 'reopen') {
      await replica.close();
      replica = await device('phone.db', way);
    } else {
      const meanwhile = { 'edit in flight': () => edit(id), 'hold in flight': hold, 'let go in flight': letGo };
      inFlight = step.do === 'lost' ? 'lost' : meanwhile[step.do as keyof typeof meanwhile];
      await replica.sync().catch(() => undefined);
    }
  }
  inFlight = undefined;
  for (let n = 0; n < 4; n++) {
    for (const { table: of, id, column } of await replica.conflicts())
      await replica.resolve(of, id, column === null ? 'local' : { [column]: 'local' });
    await replica.sync();
  }
  const held = new Set(wanted.values());
  const server = await shell.all<{ id: string; site: string; frames: number; mark: string }>(
    'SELECT id, site, frames, mark FROM hive ORDER BY id',
  );
  const mine = (await replica.rows({ from: 'hive', order: 'id' })).map(({ id, site, frames, mark }) => ({
    ...{ id, site, frames, mark },
  }));
  expect(mine).toEqual(server.filter(({ site }) => held.has(site)).map((row) => ({ ...row })));
  // An edit that left with its row because the office moved it is kept as refused; all others are there.
  const refused = new Set((await replica.rejections()).flatMap(({ rows }) => rows.map(({ id }) => id)));
  expect([...refused].filter((id) => !moved.has(id))).toEqual([]);
  for (const id of added.keys())
    if (!refused.has(id)) expect(server.find((row) => row.id === id)?.mark).toBe(`${id} typed`);
  expect(await replica.holdings()).toHaveLength(wanted.size);
  for (const end of over.splice(0).reverse()) await end();
}
