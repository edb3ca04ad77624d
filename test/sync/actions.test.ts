import { copyFile } from 'node:fs/promises';
import {
  connectReplica,
  hostReplica,
  openNodeDriver,
  openReplica,
  type Replica,
  type Transport,
  verifyFile,
} from '@koinon/client';
import { action, counter, integer, oneOf, reference, schema, table, text } from '@koinon/core';
import type { Effects, Handlers, Scopes } from '@koinon/server';
import { describe, expect, test } from 'vitest';
import { type StoreKind, storeKinds } from '../support/stores.ts';
import { BadNetwork, never, World } from '../support/world.ts';

// Operations that only the server can carry out, asked for where there is no network.

const tables = {
  site: table({ name: text() }),
  hive: table({
    site: reference('site'),
    mark: text(),
    note: text({ optional: true }),
    queen: oneOf(['seen', 'missing'], { optional: true }),
    frames: counter(),
  }),
  // Only the server writes it.
  movement: table({ hive: reference('hive'), to: reference('site'), number: integer() }, { readOnly: true }),
};
const moveHive = action({
  input: { hive: reference('hive'), to: reference('site'), movement: text(), note: text({ optional: true }) },
  result: { number: integer() },
});
const count = action({ input: { hive: reference('hive') } });
const fill = action({ input: { hive: reference('hive'), frames: integer({ minimum: 1 }) } });
const apiary = schema(tables, { actions: { moveHive, count, fill } });
type Apiary = typeof apiary;

/** Moves hives; what each handler run was for is written down. */
function office(runs: string[] = []): Handlers<Apiary> {
  return {
    async moveHive({ hive, to, movement, note }, { update, insert, sequence, refuse, later, signal }) {
      runs.push(`${hive} to ${to}`);
      if (to === 'full') refuse([{ input: 'to', message: 'There is no room at this site.' }]);
      if (to === 'broken') throw new Error('the office is on fire');
      if (to === 'slow') await new Promise((done) => signal.addEventListener('abort', done));
      const number = await sequence('movement');
      await update('hive', hive, { site: to, ...(note && { note }) });
      await insert('movement', { id: movement, hive, to, number });
      later('tell', { number });
      // A handler that answers nonsense.
      return to === 'wrong' ? ({ number: 'seven' } as never) : { number };
    },
    async count({ hive }, { get, update }) {
      const row = await get('hive', hive);
      await update('hive', hive, { note: `${row?.frames} frames` });
    },
    async fill({ hive, frames }, { get, update }) {
      const row = await get('hive', hive);
      await update('hive', hive, { frames: (row?.frames ?? 0) + frames });
      await update('hive', 'k', { note: 'counted' });
    },
  };
}

async function world(kind: StoreKind, runs: string[] = [], effects: Effects = { tell: () => undefined }) {
  const world = await World.inTest(apiary, kind, { actions: office(runs), effects, ruleTimeLimit: 300 });
  const shell = await world.shell();
  for (const site of ['a', 'b', 'c', 'full', 'broken', 'slow', 'wrong'])
    await shell.exec(`INSERT INTO site (id, name) VALUES ('${site}', 'Site ${site}')`);
  for (const hive of ['h', 'k'])
    await shell.exec(`INSERT INTO hive (id, site, mark, frames) VALUES ('${hive}', 'a', '${hive}', 0)`);
  const device = async (server?: Transport, file?: string) => {
    const replica = await world.closed(
      openReplica({
        ...{ schema: apiary, server: server ?? world.server.url, sync: { when: never, live: false } },
        ...(file && { file: world.path(file) }),
      }),
    );
    await replica.sync();
    return replica;
  };
  return { world, shell, device };
}

/** Asks for a move, and shows it at once. */
const move = (replica: Replica<Apiary>, hive: string, to: string, movement = `${hive} ${to}`) =>
  replica.invoke(
    'moveHive',
    { hive, to, movement },
    {
      locally: async (data) => {
        await data.update('hive', hive, { site: to });
        await data.insert('movement', { id: movement, hive, to, number: 0 });
      },
    },
  );

const siteOf = async (replica: Replica<Apiary>, hive: string) => (await replica.get('hive', hive))?.site;
const states = async (replica: Replica<Apiary>) => (await replica.invocations()).map(({ state }) => state);

async function expectSound(world: World<Apiary>, file: string) {
  const driver = await openNodeDriver({ file: world.path(file), readOnly: true });
  expect(verifyFile(driver, apiary)).toEqual([]);
  driver.close();
}

describe.each(storeKinds)('%s', (kind) => {
  test('A1 the reply is lost: the action is run once, and its result comes with the repetition', async () => {
    const runs: string[] = [];
    const { world: at, device } = await world(kind, runs);
    const network = new BadNetwork(at.server.url);
    const replica = await device(network, 'phone.db');
    await replica.update('hive', 'h', { mark: 'h one' });
    const moved = await move(replica, 'h', 'b');
    const result = replica.resultOf(moved);
    expect(await siteOf(replica, 'h')).toBe('b');
    expect(await replica.status()).toMatchObject({ pending: 2 });
    await expectSound(at, 'phone.db');
    network.fates.push('answered', 'lost reply');
    await expect(replica.sync()).rejects.toThrow('the reply was lost');
    expect(await states(replica)).toEqual(['sent']);
    await replica.sync();
    expect(await result).toEqual({ number: 1 });
    expect(runs).toEqual(['h to b']);
    expect(await replica.rows({ from: 'movement' })).toEqual([{ id: 'h b', hive: 'h', to: 'b', number: 1 }]);
    expect(await replica.invocations()).toMatchObject([
      { name: 'moveHive', state: 'applied', result: { number: 1 }, input: { hive: 'h', to: 'b', note: null } },
    ]);
    expect(await replica.outbox()).toEqual([]);
    await expectSound(at, 'phone.db');
  });

  test('A2 the handler throws, hangs or answers nonsense: refused, the rest goes on, and it can be sent again', async () => {
    const runs: string[] = [];
    const { world: at, device, shell } = await world(kind, runs);
    const replica = await device(undefined, 'phone.db');
    await replica.update('hive', 'k', { mark: 'k one' });
    for (const to of ['broken', 'slow', 'wrong']) await move(replica, 'h', to);
    const refused = await move(replica, 'k', 'full');
    await replica.update('hive', 'k', { note: 'behind it' });
    await replica.insert('site', { id: 'new', name: 'New' });
    await replica.sync();
    const found = await replica.rejections();
    expect(found).toMatchObject([
      { actions: [{ name: 'moveHive' }], problems: [{ code: 'action-failed', action: 'moveHive' }] },
      { problems: [{ code: 'action-refused', column: 'to', message: 'There is no room at this site.' }] },
    ]);
    await expect(replica.resultOf(refused)).rejects.toMatchObject({ code: 'action-refused' });
    // A prediction stands until the person decides. The edit after it waits for it.
    expect(await siteOf(replica, 'k')).toBe('full');
    const [row] = await replica.rows({ from: 'hive', where: { id: 'k' }, join: { own: 'status' } });
    expect(row).toMatchObject({ own: { status: 'rejected' } });
    expect(await shell.all("SELECT site, mark, note FROM hive WHERE id = 'k'")).toEqual([
      { site: 'a', mark: 'k one', note: null },
    ]);
    expect(await shell.all("SELECT 1 AS one FROM site WHERE id = 'new'")).toHaveLength(1);
    expect(await shell.all('SELECT 1 FROM movement')).toEqual([]);
    await expectSound(at, 'phone.db');
    // The moves of h stand behind the one that failed; each is decided by itself.
    await replica.discard(found[0]?.transaction as string, { dependent: 'take back' });
    expect(await siteOf(replica, 'h')).toBe('a');
    await replica.amend(refused, { hive: 'k', to: 'c', movement: 'k c' });
    await replica.sync();
    expect(await replica.resultOf(refused)).toEqual({ number: 1 });
    expect(await shell.all("SELECT site, note FROM hive WHERE id = 'k'")).toEqual([{ site: 'c', note: 'behind it' }]);
    expect(await replica.get('hive', 'k')).toMatchObject({ site: 'c', note: 'behind it' });
    for (const to of ['slow', 'wrong']) {
      await move(replica, 'h', to);
      await replica.sync();
      const [rejection] = await replica.rejections();
      expect(rejection?.problems).toMatchObject([{ code: 'action-failed' }]);
      await replica.resend(rejection?.transaction as string);
      await replica.sync();
      await replica.discard((await replica.rejections())[0]?.transaction as string);
    }
    expect(runs.filter((run) => run === 'h to wrong')).toHaveLength(2);
    expect(await replica.outbox()).toEqual([]);
    await expectSound(at, 'phone.db');
  });

  test('A3 what is done after the commit is done at least once, with one key, also after a kill before it', async () => {
    const done: string[] = [];
    let fails = true;
    const { world: at, device } = await world(kind, [], {
      tell: (payload, { key, attempt }) => {
        done.push(`${JSON.stringify(payload)} ${attempt} ${key.length > 36}`);
        if (fails) throw new Error('the mail server is away');
      },
    });
    const replica = await device();
    await move(replica, 'h', 'b');
    await replica.sync();
    await expect.poll(() => done).toEqual(['{"number":1} 1 true']);
    const open = await expect.poll(() => at.store.read((reader) => reader.openEffects(10)));
    await open.toMatchObject([{ name: 'tell', attempt: 1, error: 'the mail server is away' }]);
    // Another process finds it later: the clock of the job says when.
    fails = false;
    await at.restart(apiary, undefined, { now: () => Date.now() + 60_000 });
    await expect.poll(() => done).toEqual(['{"number":1} 1 true', '{"number":1} 2 true']);
    await expect.poll(() => at.store.read((reader) => reader.openEffects(10))).toEqual([]);
  });

  test('A4 an action goes behind the edits of its rows, also where one is blocked, and others go before it', async () => {
    const runs: string[] = [];
    const { device, shell } = await world(kind, runs);
    const replica = await device();
    await shell.exec("UPDATE hive SET note = 'office' WHERE id = 'h'");
    await replica.update('hive', 'h', { note: 'device' });
    await replica.add('hive', 'h', 'frames', 3);
    await replica.invoke('count', { hive: 'h' });
    await replica.invoke('count', { hive: 'k' });
    await replica.sync();
    // The first edit is in conflict: the action of its row waits, that of the other has run.
    expect(await states(replica)).toEqual(['applied', 'waiting']);
    expect(await replica.conflicts()).toHaveLength(1);
    await replica.resolve('hive', 'h', 'local');
    await replica.sync();
    expect(await states(replica)).toEqual(['applied', 'applied']);
    expect(await replica.get('hive', 'h')).toMatchObject({ note: '3 frames', frames: 3 });
  });

  test('A5 no moment shows neither what was predicted nor what became of it, or both', async () => {
    const { world: at, device } = await world(kind);
    const replica = await device(undefined, 'phone.db');
    const seen: string[] = [];
    const stop = replica.live({ from: 'movement' }).subscribe(({ rows, ready }) => {
      if (ready) seen.push(JSON.stringify(rows.map(({ number }) => [number])));
    });
    await replica.insert('site', { id: 'new', name: 'New' });
    await move(replica, 'h', 'b');
    await expect.poll(() => seen.at(-1)).toBe('[[0]]');
    await replica.sync();
    await expect.poll(() => seen.at(-1)).toBe('[[1]]');
    stop();
    expect([...new Set(seen)]).toEqual(['[]', '[[0]]', '[[1]]']);
    // One that was predicted and does not come is gone when the rest of it is here.
    await replica.invoke('count', { hive: 'k' }, { locally: (data) => data.insert('site', { id: 'x', name: 'X' }) });
    expect(await replica.get('site', 'x')).toBeDefined();
    await replica.sync();
    expect(await replica.get('site', 'x')).toBeUndefined();
    expect(await replica.get('hive', 'k')).toMatchObject({ note: '0 frames' });
    await expectSound(at, 'phone.db');
    // Page by page, the first of which has the row, and the last the news that the action is done.
    const { pull, ...others } = new BadNetwork(at.server.url);
    const paged = await device({ ...others, pull: (request, signal) => pull({ ...request, limit: 1 }, signal) });
    const frames: number[] = [];
    paged.listen('hive', (events) => void frames.push(...events.map(({ after }) => after?.frames ?? 0)), {
      where: { id: 'h' },
    });
    await paged.invoke('fill', { hive: 'h', frames: 5 }, { locally: (data) => data.add('hive', 'h', 'frames', 5) });
    await paged.sync();
    expect([await paged.get('hive', 'h'), new Set(frames)]).toMatchObject([{ frames: 5 }, new Set([5])]);
    await expectSound(at, 'phone.db');
  });

  test('A6 others change a row that is predicted: no conflict, and both are shown', async () => {
    const { world: at, device, shell } = await world(kind);
    const replica = await device(undefined, 'phone.db');
    await move(replica, 'h', 'b');
    await shell.exec("UPDATE hive SET site = 'c', mark = 'office' WHERE id = 'h'");
    await replica.sync({ direction: 'pull' });
    expect(await replica.get('hive', 'h')).toMatchObject({ site: 'b', mark: 'office' });
    expect(await replica.conflicts()).toEqual([]);
    await expectSound(at, 'phone.db');
    await replica.sync();
    expect(await replica.get('hive', 'h')).toMatchObject({ site: 'b', mark: 'office' });
    expect(await replica.conflicts()).toEqual([]);
  });

  test('A7 what is unsent can be undone, done again and reverted, whole', async () => {
    const runs: string[] = [];
    const { world: at, device } = await world(kind, runs);
    const replica = await device(undefined, 'phone.db');
    await replica.transaction(async (transaction) => {
      await transaction.update('hive', 'k', { note: 'before' });
      await transaction.invoke(
        'moveHive',
        { hive: 'h', to: 'b', movement: 'm' },
        { locally: (data) => data.update('hive', 'h', { site: 'b' }) },
      );
      await transaction.update('hive', 'k', { mark: 'after' });
      // A prediction of the same transaction cannot be changed over it.
      await expect(transaction.update('hive', 'h', { site: 'c' })).rejects.toMatchObject({ code: 'row-predicted' });
    });
    expect(await replica.undo()).toHaveLength(2);
    expect(await replica.get('hive', 'h')).toMatchObject({ site: 'a' });
    expect(await replica.get('hive', 'k')).toMatchObject({ note: null, mark: 'k' });
    expect(await replica.outbox()).toEqual([]);
    await expectSound(at, 'phone.db');
    await replica.redo();
    expect(await siteOf(replica, 'h')).toBe('b');
    expect(await replica.outbox()).toMatchObject([{ changes: [{ id: 'k' }, { id: 'k' }], actions: [{ after: 1 }] }]);
    await expectSound(at, 'phone.db');
    await expect(replica.revert('hive', 'h')).rejects.toMatchObject({ code: 'transaction-shared' });
    await expect(replica.revert('hive', 'k')).rejects.toThrow(/the action "moveHive"/);
    await replica.revert('hive', 'h', { transactions: 'whole' });
    expect([await siteOf(replica, 'h'), await replica.outbox()]).toEqual(['a', []]);
    const draft = replica.draft();
    await draft.update('hive', 'h', { note: 'drafted' });
    draft.invoke('moveHive', { hive: 'h', to: 'c', movement: 'd' });
    expect(() => draft.invoke('moveHive', { hive: 'h' } as never)).toThrow(/to/);
    await draft.commit();
    await replica.sync();
    expect(runs).toEqual(['h to c']);
    await expect(replica.undo()).rejects.toMatchObject({ code: 'nothing-to-undo' });
    expect(await replica.get('hive', 'h')).toMatchObject({ note: 'drafted', site: 'c' });
    await expectSound(at, 'phone.db');
  });

  test('A8 the latest state is never joined over an action', async () => {
    const { world: at } = await world(kind);
    const bodies: string[] = [];
    const network = new BadNetwork(at.server.url);
    const replica = await at.replica({ server: network, upload: 'latest state' });
    await replica.sync();
    await replica.add('hive', 'h', 'frames', 1);
    await replica.add('hive', 'h', 'frames', 1);
    await replica.invoke('count', { hive: 'h' });
    await replica.add('hive', 'h', 'frames', 1);
    await replica.add('hive', 'h', 'frames', 1);
    await replica.sync();
    bodies.push(...network.bodies);
    expect(await replica.get('hive', 'h')).toMatchObject({ frames: 4, note: '2 frames' });
    const sent = bodies.flatMap((body) => JSON.parse(body).transactions as { changes: unknown[]; actions?: [] }[]);
    expect(sent.map(({ changes, actions = [] }) => [changes.length, actions.length])).toEqual([
      [1, 0],
      [0, 1],
      [1, 0],
    ]);
  });

  test('a transaction in parts runs its action once, between the changes before it and those behind it', async () => {
    const runs: string[] = [];
    const { world: at } = await world(kind, runs);
    const network = new BadNetwork(at.server.url);
    const replica = await at.replica({ server: network, upload: 'every step', requestBytes: 900 });
    await replica.sync();
    await replica.transaction(async (transaction) => {
      for (let n = 0; n < 10; n++) await transaction.insert('site', { id: `s${n}`, name: 'of ten before' });
      await transaction.add('hive', 'h', 'frames', 2);
      await transaction.invoke('count', { hive: 'h' });
      await transaction.invoke('moveHive', { hive: 'k', to: 's9', movement: 'm' });
      await transaction.add('hive', 'h', 'frames', 2);
      for (let n = 0; n < 10; n++) await transaction.insert('site', { id: `t${n}`, name: 'of ten behind' });
    });
    network.fates.push(...(['answered', 'answered', 'sent twice', 'lost reply'] as const));
    await replica.sync().catch(() => undefined);
    await replica.sync();
    expect(network.bodies.length).toBeGreaterThan(2);
    expect(await replica.get('hive', 'h')).toMatchObject({ frames: 4, note: '2 frames' });
    expect([await siteOf(replica, 'k'), runs]).toEqual(['s9', ['k to s9']]);
    expect(await states(replica)).toEqual(['applied', 'applied']);
    expect(await replica.count({ from: 'site' })).toBe(27);
  });

  test('A9 a server that does not know the action, or has nobody for it, lets it wait', async () => {
    const { world: at, device } = await world(kind);
    const replica = await device();
    await at.restart(schema(tables), undefined, { actions: {} });
    await move(replica, 'h', 'b');
    await replica.insert('site', { id: 'new', name: 'New' });
    expect((await replica.sync()).up).toMatchObject({ applied: 1, waiting: 1 });
    await at.restart(apiary, undefined, { actions: {} });
    expect((await replica.sync()).up).toMatchObject({ waiting: 1 });
    expect([await states(replica), await siteOf(replica, 'h')]).toEqual([['waiting'], 'b']);
    await at.restart(apiary);
    await replica.sync();
    expect(await states(replica)).toEqual(['applied']);
  });

  test('A10 two copies of a file send it: it is run once, and both have the result', async () => {
    const runs: string[] = [];
    const { world: at, device } = await world(kind, runs);
    const first = await device(undefined, 'phone.db');
    await first.update('hive', 'h', { note: 'both' });
    const moved = await move(first, 'h', 'b');
    await first.close();
    await copyFile(at.path('phone.db'), at.path('copy.db'));
    for (const file of ['phone.db', 'copy.db']) {
      const replica = await device(undefined, file);
      expect(await replica.resultOf(moved)).toEqual({ number: 1 });
      expect(await siteOf(replica, 'h')).toBe('b');
      expect(await replica.rows({ from: 'movement' })).toMatchObject([{ number: 1 }]);
      await replica.close();
      await expectSound(at, file);
    }
    expect(runs).toEqual(['h to b']);
  });

  test('A11 a restored server is offered it again, and runs it only if it has lost it', async () => {
    const runs: string[] = [];
    const { world: at, device } = await world(kind, runs);
    const replica = await device(undefined, 'phone.db');
    await move(replica, 'h', 'b');
    await replica.sync();
    const restore = await at.backup();
    await move(replica, 'k', 'c');
    await replica.sync();
    await restore();
    await replica.sync();
    await replica.sync();
    expect(runs).toEqual(['h to b', 'k to c', 'k to c']);
    expect(await replica.rows({ from: 'movement', order: 'number' })).toMatchObject([{ number: 1 }, { number: 2 }]);
    expect(await states(replica)).toEqual(['applied', 'applied']);
    expect([await siteOf(replica, 'h'), await siteOf(replica, 'k')]).toEqual(['b', 'c']);
    await expectSound(at, 'phone.db');
  });

  test('A12 what is typed over a prediction is merged with what the action did, or shown, and never lost', async () => {
    const { world: at, device, shell } = await world(kind);
    const replica = await device(undefined, 'phone.db');
    const noted = (hive: string, to: string, note: string) =>
      replica.invoke(
        'moveHive',
        { hive, to, movement: `${hive} ${to}`, note },
        { locally: (data) => data.update('hive', hive, { site: to, note: 'as predicted' }) },
      );
    // Applied as predicted: the edit is an edit of that.
    await noted('h', 'b', 'as predicted');
    await replica.update('hive', 'h', { note: 'mine' });
    // Applied differently: both have changed it, and a person decides.
    await noted('k', 'b', 'something else');
    await replica.update('hive', 'k', { note: 'mine' });
    await expectSound(at, 'phone.db');
    // Others change something meanwhile.
    await shell.exec("UPDATE hive SET mark = 'office', note = 'office' WHERE id IN ('h', 'k')");
    await replica.sync({ direction: 'pull' });
    expect(await replica.conflicts()).toEqual([]);
    await expectSound(at, 'phone.db');
    await replica.sync();
    expect(await replica.get('hive', 'h')).toMatchObject({ note: 'mine', site: 'b' });
    expect(await shell.all("SELECT note FROM hive WHERE id = 'h'")).toEqual([{ note: 'mine' }]);
    expect(await replica.conflicts()).toMatchObject([
      { id: 'k', column: 'note', base: 'as predicted', local: 'mine', remote: 'something else' },
    ]);
    await replica.resolve('hive', 'k', 'local');
    // A row that is there only by prediction; the edit waits for it, and is of the real one.
    await replica.invoke(
      'moveHive',
      { hive: 'h', to: 'c', movement: 'm' },
      { locally: (data) => data.insert('site', { id: 'made', name: 'Made' }) },
    );
    await replica.update('site', 'made', { name: 'Mine' });
    // Refused: the edit is shown with it, and goes only with the word of the person.
    const refused = await move(replica, 'k', 'full');
    await replica.update('hive', 'k', { site: 'c' });
    await replica.sync();
    await replica.sync();
    expect(await shell.all("SELECT name FROM site WHERE id = 'made'")).toEqual([{ name: 'Mine' }]);
    expect(await replica.get('site', 'made')).toMatchObject({ name: 'Mine' });
    expect(await siteOf(replica, 'k')).toBe('c');
    const [rejection] = await replica.rejections();
    await expect(replica.discard(rejection?.transaction as string)).rejects.toMatchObject({ code: 'change-needed' });
    await expectSound(at, 'phone.db');
    await replica.amend(refused, { hive: 'k', to: 'b', movement: 'n' });
    await replica.sync();
    await replica.sync();
    expect(await replica.conflicts()).toMatchObject([{ column: 'site', base: 'full', local: 'c', remote: 'b' }]);
    await replica.resolve('hive', 'k', 'local');
    await replica.sync();
    expect(await shell.all("SELECT site, note FROM hive WHERE id = 'k'")).toEqual([{ site: 'c', note: 'mine' }]);
    expect(await replica.outbox()).toEqual([]);
    await expectSound(at, 'phone.db');
  });

  test("A13 the handler's own writes and an edit of the same column meet in both orders", async () => {
    const { device, shell } = await world(kind);
    const replica = await device();
    const other = await device();
    // The edit comes first: the handler writes over it.
    await replica.update('hive', 'h', { note: 'before' });
    await replica.invoke('count', { hive: 'h' });
    await replica.sync();
    expect(await replica.get('hive', 'h')).toMatchObject({ note: '0 frames' });
    // The action comes first, of another device: the edit is of what stood there before, so that a person decides.
    await other.update('hive', 'h', { note: 'after' });
    await other.sync();
    expect(await other.conflicts()).toMatchObject([{ column: 'note', base: null, local: 'after', remote: '0 frames' }]);
    await other.resolve('hive', 'h', 'local');
    await other.sync();
    // The same of one device, without a prediction.
    await other.invoke('count', { hive: 'h' });
    await other.update('hive', 'h', { note: 'again' });
    await other.sync();
    expect(await other.conflicts()).toMatchObject([
      { column: 'note', base: 'after', local: 'again', remote: '0 frames' },
    ]);
    expect(await shell.all("SELECT note FROM hive WHERE id = 'h'")).toEqual([{ note: '0 frames' }]);
  });

  test('a hostile device gives its calls the ids of another’s, and one id to two: each hears of its own', async () => {
    const { world: at } = await world(kind);
    const push = async (n: number, hive: string, ...calls: string[]) => {
      const id = (last: number) => `00000000-0000-4000-8000-00000000000${last}`;
      const actions = calls.map((movement) => ({
        ...{ id: id(9), name: 'moveHive', input: { hive, to: 'b', movement }, refersTo: [], after: 0 },
      }));
      const transaction = { id: id(n), editedAt: '2026-05-01T08:00:00.000Z', changes: [], actions };
      const { lines } = await at.request('/v1/push', { replica: id(n + 2), base: null, transactions: [transaction] });
      return (lines[0] as { outcomes: readonly unknown[] } | undefined)?.outcomes;
    };
    const first = [{ outcome: 'applied', results: [{ result: { number: 1 } }] }];
    expect(await push(1, 'h', 'h b')).toMatchObject(first);
    expect(await push(2, 'k', 'k b', 'k b again')).toMatchObject([{ outcome: 'applied' }]);
    expect(await push(1, 'h', 'h b')).toMatchObject(first);
    expect(await push(2, 'k', 'k b', 'k b again')).toMatchObject([{ outcome: 'applied', results: [{}] }]);
  });

  test('rows of others are answered like rows that are not there, and the handler may look', async () => {
    const sees: boolean[] = [];
    const at = await World.inTest(apiary, kind, {
      authenticate: (token) => ({ id: token, claims: {} }),
      scopes: {
        site: { read: 'all' },
        hive: { read: (user) => ({ id: user?.id ?? '' }) },
        movement: { read: 'all' },
      } as Scopes<Apiary>,
      actions: {
        async count({ hive }, context) {
          sees.push(await context.sees('hive', 'k'), await context.sees('hive', hive));
        },
      },
    });
    const shell = await at.shell();
    await shell.exec("INSERT INTO site (id, name) VALUES ('a', 'Site a')");
    for (const hive of ['h', 'k'])
      await shell.exec(`INSERT INTO hive (id, site, mark, frames) VALUES ('${hive}', 'a', 'm', 0)`);
    const replica = await at.closed(
      openReplica({ schema: apiary, server: at.server.url, token: () => 'h', sync: { when: never, live: false } }),
    );
    await replica.sync();
    await replica.invoke('count', { hive: 'h' });
    for (const hive of ['k', 'none']) await replica.invoke('count', { hive });
    await replica.sync();
    expect(sees).toEqual([false, true]);
    const problems = (await replica.rejections()).map(({ problems: [first] }) => first);
    expect(problems).toMatchObject([
      { code: 'no-such-reference', action: 'count', column: 'hive' },
      { code: 'no-such-reference', action: 'count', column: 'hive' },
    ]);
    expect(problems[0]?.message.replace('k', 'none')).toBe(problems[1]?.message);
    for (const { transaction } of await replica.rejections()) await replica.discard(transaction);
    expect([await replica.outbox(), (await replica.invocations()).length]).toEqual([[], 1]);
  });

  test('a live device behind a port: what an action predicted goes also where it has changed no row', async () => {
    const { world: at } = await world(kind);
    const { port1, port2 } = new MessageChannel();
    void hostReplica(port1, () => openReplica({ schema: apiary, server: at.server.url, sync: 'automatic' }));
    const replica = await at.closed(connectReplica(port2, apiary));
    await expect.poll(() => siteOf(replica, 'k')).toBe('a');
    const seen: string[][] = [];
    const stop = replica.liveInvocations().subscribe(({ rows }) => seen.push(rows.map(({ state }) => state)));
    const call = await replica.transaction(async (transaction) => {
      await transaction.update('hive', 'k', { note: '0 frames' });
      return transaction.invoke(
        'count',
        { hive: 'k' },
        { locally: (data) => data.insert('site', { id: 'x', name: 'X' }) },
      );
    });
    expect(await replica.get('site', 'x')).toBeDefined();
    expect(await replica.resultOf(call)).toEqual({});
    await expect.poll(() => replica.get('site', 'x')).toBeUndefined();
    await expect.poll(() => seen.at(-1)).toEqual(['applied']);
    await expect(replica.resultOf({ id: 'none', name: 'count' })).rejects.toMatchObject({ code: 'no-such-invocation' });
    await replica.pauseSync();
    const waiting = await replica.invoke('count', { hive: 'k' });
    const given = replica.resultOf(waiting, { signal: AbortSignal.timeout(50) });
    await expect(given).rejects.toMatchObject({ code: 'cancelled' });
    for (const wrong of [{ hive: 7 }, {}, { hive: 'k', more: 1 }])
      await expect(replica.invoke('count', wrong as never)).rejects.toMatchObject({ problems: [{ action: 'count' }] });
    await expect(replica.invoke('none' as never, {} as never)).rejects.toMatchObject({ code: 'unknown-action' });
    stop();
  });
});

test('an app that has dropped its actions shows what the last one came to; a transaction has a bound of actions', async () => {
  const { world: at, device } = await world('SQLite');
  const replica = await device(undefined, 'phone.db');
  await expect(
    replica.transaction(async (transaction) => {
      for (let n = 0; n < 101; n++) await transaction.invoke('count', { hive: 'h' });
    }),
  ).rejects.toMatchObject({ code: 'too-large' });
  expect(await replica.outbox()).toEqual([]);
  await replica.invoke(
    'count',
    { hive: 'h' },
    { locally: (data) => data.update('hive', 'h', { note: 'soon', mark: 'expected' }) },
  );
  await replica.close();
  const later = schema(tables, { version: 2 });
  const next = await openReplica({
    ...{ schema: later, file: at.path('phone.db'), server: at.server.url, sync: { when: never, live: false } },
  });
  expect(await next.get('hive', 'h')).toMatchObject({ note: 'soon', mark: 'expected' });
  await next.sync();
  expect([await next.get('hive', 'h'), await next.outbox()]).toMatchObject([{ note: '0 frames', mark: 'h' }, []]);
  await next.close();
  await expectSound(at, 'phone.db');
});
