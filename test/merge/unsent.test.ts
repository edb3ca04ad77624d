import { copyFile } from 'node:fs/promises';
import { openNodeDriver, openReplica, type Replica, verifyFile } from '@koinon/client';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { type Register, register, strict } from '../simulator/schema.ts';
import { type Shell, storeKinds } from '../support/stores.ts';
import { BadNetwork, never, World } from '../support/world.ts';

// The fate of several unsent changes that meet: the design's histories 29 to 40. 37 is what the simulator makes up.

const line = (notes: string, n: number, text: string) =>
  notes
    .split('\n')
    .map((each) => (each.startsWith(`line ${n}`) ? `line ${n} ${text}` : each))
    .join('\n');

describe.each(storeKinds)('on %s', (kind) => {
  let world: World<Register>;
  let a: Replica<Register>;
  let b: Replica<Register>;
  let shell: Shell;
  const hive = async (replica: Replica<Register>, id = 'h') => {
    const row = await replica.get('hive', id);
    if (row === undefined) throw new Error(`no ${id}`);
    return row;
  };
  // The server takes less than the apps.
  const open = (
    file: string,
    upload: 'every step' | 'latest state' = 'every step',
    server: string | BadNetwork = world.server.url,
  ) =>
    world.closed(
      openReplica({ schema: register, file: world.path(file), server, sync: { upload, when: never, live: false } }),
    );
  const onServer = async (id = 'h') =>
    (await shell.all<Record<string, unknown>>(`SELECT * FROM hive WHERE id = '${id}'`))[0] as Record<string, unknown>;
  const settle = async () => {
    for (const replica of [a, b, a, b]) await replica.sync();
  };

  beforeEach(async () => {
    world = (await World.of(strict, kind)) as unknown as World<Register>;
    [a, b] = [await open('a.db'), await open('b.db')];
    shell = await world.shell();
    await b.insert('site', { id: 's', name: 'Marrowfen' });
    for (const [n, id] of ['h', 'i', 'j'].entries()) await b.insert('hive', { id, site: 's', rank: n + 1 });
    await b.sync();
    await a.sync();
  });
  afterEach(() => world.end());

  test('history 29: a file that is put back to before its last sync counts nothing twice, and loses nothing', async () => {
    await a.close();
    await copyFile(world.path('a.db'), world.path('before.db'));
    a = await open('a.db');
    const work = async (replica: Replica<Register>) => {
      await replica.transaction(async (transaction) => {
        await transaction.insert('visit', { id: 'v', hive: 'h', amount: 5 });
        await transaction.add('hive', 'h', 'total', 5);
      });
      await replica.include('hive', 'h', 'marks', 'swarmed');
    };
    await work(a);
    await a.close();
    await copyFile(world.path('a.db'), world.path('unsent.db'));
    a = await open('a.db');
    await a.sync();
    await a.close();
    // With what was sent still unsent in it, as after the end of the log was cut off, or a phone's backup.
    a = await open('unsent.db');
    expect(await a.status()).toMatchObject({ pending: 2 });
    await settle();
    expect(await onServer()).toMatchObject({ total: 5 });
    for (const replica of [a, b]) expect(await hive(replica)).toMatchObject({ total: 5, marks: ['swarmed'] });
    expect(await a.outbox()).toEqual([]);
    await a.close();
    // And with nothing of it.
    a = await open('before.db');
    await settle();
    expect(await hive(a)).toMatchObject({ total: 5 });
  });

  test.each([[['copy', 'original']], [['original', 'copy']]] as const)(
    'history 30: a file is copied in the middle of an outbox and both go on, the %s first: each transaction is applied once',
    async ([first]) => {
      await a.transaction(async (transaction) => {
        await transaction.insert('visit', { id: 'v', hive: 'h', amount: 5 });
        await transaction.add('hive', 'h', 'total', 5);
      });
      await a.add('hive', 'i', 'frames', 3);
      await a.close();
      await copyFile(world.path('a.db'), world.path('copy.db'));
      // Joined on the one, one by one on the other; and merged into other content before it goes up.
      const copy = await open('copy.db', 'latest state');
      a = await open('a.db');
      await b.update('hive', 'h', { title: 'theirs' });
      await b.insert('visit', { id: 'w', hive: 'h', amount: 1 });
      await b.sync();
      await copy.add('hive', 'i', 'frames', 10);
      await a.add('hive', 'i', 'frames', 100);
      for (const replica of first === 'copy' ? [copy, a, copy] : [a, copy, a]) await replica.sync();
      expect(await onServer()).toMatchObject({ total: 5 });
      expect(await onServer('i')).toMatchObject({ frames: 113 });
      for (const replica of [a, copy]) {
        await replica.sync();
        expect(await hive(replica, 'i')).toMatchObject({ frames: 113 });
        expect(await replica.outbox()).toEqual([]);
      }
    },
  );

  test('history 31: of three unsent edits the second is held: the first goes up merged, and nothing of the other device is lost', async () => {
    const { notes } = await hive(a);
    await a.update('hive', 'h', { card: { a: 1 }, notes: line(notes, 0, 'one') });
    await a.update('hive', 'h', { title: 'mine' });
    await a.update('hive', 'h', { card: { a: 2 }, notes: line(line(notes, 0, 'one'), 0, 'two') });
    await b.update('hive', 'h', { card: { b: 1 }, notes: line(notes, 3, 'theirs'), title: 'theirs' });
    await b.sync();
    await a.sync();
    expect(await a.conflicts()).toMatchObject([{ column: 'title', local: 'mine', remote: 'theirs' }]);
    const both = { notes: line(line(notes, 0, 'one'), 3, 'theirs'), title: 'theirs' };
    expect(await onServer()).toMatchObject(both);
    await b.sync();
    expect(await hive(b)).toMatchObject({ ...both, card: { a: 1, b: 1 } });
    await a.revert('hive', 'h');
    await settle();
    for (const replica of [a, b]) expect(await hive(replica)).toMatchObject({ ...both, card: { a: 1, b: 1 } });
  });

  test.each([[['h', 'j']], [['j', 'h']]])(
    'history 32: one transaction on three rows, in conflict on two of them, decided in the order %j',
    async (order) => {
      const edit = (replica: Replica<Register>, who: string, own: 'own0' | 'own1') =>
        replica.transaction(async (transaction) => {
          await transaction.update('hive', 'h', { title: who });
          await transaction.update('hive', 'i', { [own]: who });
          await transaction.update('hive', 'j', { title: who });
        });
      await edit(b, 'theirs', 'own1');
      await edit(a, 'mine', 'own0');
      await b.sync();
      await a.sync();
      expect(await a.conflicts()).toMatchObject([{ id: 'h' }, { id: 'j' }]);
      for (const id of order) await a.resolve('hive', id, 'remote');
      await settle();
      expect(await a.outbox()).toEqual([]);
      for (const replica of [a, b]) {
        expect(await hive(replica, 'i')).toMatchObject({ own0: 'mine', own1: 'theirs' });
        expect(await hive(replica, 'h')).toMatchObject({ title: 'theirs' });
      }
    },
  );

  test('history 33: undo is the last edit or an error, and never another', async () => {
    await b.update('hive', 'h', { title: 'theirs' });
    await b.sync();
    await a.update('hive', 'h', { title: 'morning' });
    await a.sync();
    await a.update('hive', 'i', { title: 'evening' });
    await a.sync();
    expect(await a.conflicts()).toHaveLength(1);
    await expect(a.undo()).rejects.toMatchObject({ code: 'already-sent' });
    // Nor when something after it is taken back.
    await a.update('hive', 'j', { title: 'night' });
    expect(await a.undo()).toEqual([{ table: 'hive', id: 'j' }]);
    await expect(a.undo()).rejects.toMatchObject({ code: 'already-sent' });
    expect(await hive(a)).toMatchObject({ title: 'morning' });
    await a.resolve('hive', 'h', 'remote');
    // What is joined for a request and not applied is what it was.
    await a.close();
    a = await open('a.db', 'latest state');
    await b.update('hive', 'j', { title: 'first' });
    await b.sync();
    for (const id of ['h', 'i', 'j']) await a.update('hive', id, { title: `of ${id}` });
    await a.sync({ direction: 'push' });
    expect(await a.outbox()).toHaveLength(3);
    expect(await a.undo()).toEqual([{ table: 'hive', id: 'j' }]);
    expect(await a.redo()).toEqual([{ table: 'hive', id: 'j' }]);
    expect(await hive(a, 'j')).toMatchObject({ title: 'of j' });
    expect(await a.undo()).toEqual([{ table: 'hive', id: 'j' }]);
    await settle();
    expect(await hive(b, 'h')).toMatchObject({ title: 'of h' });
    expect(await hive(b, 'j')).toMatchObject({ title: 'first' });
  });

  test('redo is possible after a sync, and not after another process has written, though nothing of that is unsent any more', async () => {
    await a.update('hive', 'h', { title: 'one' });
    await a.update('hive', 'i', { title: 'two' });
    await a.undo();
    await a.sync();
    expect(await a.redo()).toEqual([{ table: 'hive', id: 'i' }]);
    await a.undo();
    const other = await open('a.db');
    await other.update('hive', 'i', { title: 'typed in another window' });
    await other.sync();
    await other.sync();
    await other.close();
    expect(await a.outbox()).toEqual([]);
    await expect(a.redo()).rejects.toMatchObject({ code: 'nothing-to-redo' });
    expect(await hive(a, 'i')).toMatchObject({ title: 'typed in another window' });
    // A decision is something that was done as well.
    await a.update('hive', 'h', { title: 'three' });
    await a.undo();
    await a.revertAll();
    await expect(a.redo()).rejects.toMatchObject({ code: 'nothing-to-redo' });
  });

  test.each(['resolve', 'resolve inside a transaction', 'revert'])(
    'history 34: three unique values are passed round on two devices, and decided for the server by one %s',
    async (way) => {
      const pass = (replica: Replica<Register>, ranks: readonly number[]) =>
        replica.transaction(async (transaction) => {
          for (const [n, id] of ['h', 'i', 'j'].entries())
            await transaction.update('hive', id, { rank: ranks[n] as number });
        });
      await pass(b, [2, 3, 1]);
      await b.sync();
      await pass(a, [3, 1, 2]);
      await a.sync();
      const rows = ['h', 'i', 'j'].map((id) => ({ table: 'hive', id }));
      expect(await a.conflicts()).toHaveLength(3);
      await expect(a.resolve('hive', 'h', 'remote')).rejects.toMatchObject({ code: 'duplicate-value' });
      const decisions = rows.map((row) => ({ ...row, choices: 'remote' as const }));
      if (way === 'revert') await a.revert(rows);
      else if (way === 'resolve') await a.resolve(decisions);
      else
        await a.transaction(async (transaction) => {
          await transaction.resolve(decisions);
          await transaction.update('hive', 'h', { title: 'decided' });
        });
      expect([await a.conflicts(), (await hive(a, 'i')).rank]).toEqual([[], 3]);
      await settle();
      expect(await onServer('j')).toMatchObject({ rank: 1 });
    },
  );

  test('history 35: of what was refused neither half goes up by itself, and discard drops both', async () => {
    const refused = async (visit: string) => {
      await a.transaction(async (transaction) => {
        await transaction.insert('visit', { id: visit, hive: 'h', amount: 50, words: 'more than the office takes' });
        await transaction.add('hive', 'h', 'total', 50);
      });
      await a.sync();
      const [rejection] = await a.rejections();
      expect(rejection?.rows).toMatchObject([{ id: visit }, { id: 'h', operations: { total: { add: 50 } } }]);
      return rejection?.transaction as string;
    };
    await refused('v');
    await expect(a.revert('visit', 'v')).rejects.toMatchObject({ code: 'transaction-shared' });
    await a.revert('visit', 'v', { transactions: 'these rows only' });
    await a.sync();
    expect([(await onServer()).total, await a.rejections()]).toMatchObject([0, [{ rows: [{ id: 'h' }] }]]);
    await a.discard((await a.rejections())[0]?.transaction as string);
    expect([(await hive(a)).total, await a.outbox()]).toEqual([0, []]);
    // Deleted, what was refused leaves the other half where it is; corrected, both go up.
    await refused('w');
    await a.delete('visit', 'w');
    await a.sync();
    expect((await onServer()).total).toBe(0);
    await a.undo();
    await a.update('visit', 'w', { words: 'short' });
    expect([await a.rejections(), await a.undo()]).toMatchObject([[], [{ id: 'w' }]]);
    expect(await a.rejections(), 'taken back, it is refused as before').toHaveLength(1);
    await a.update('visit', 'w', { words: 'short' });
    await settle();
    expect([(await onServer()).total, await b.get('visit', 'w')]).toMatchObject([50, { words: 'short' }]);
    await refused('x');
    await a.update('hive', 'h', { title: 'after it' });
    await a.sync();
    await a.undo();
    await a.discard((await a.rejections())[0]?.transaction as string);
    await settle();
    expect(await hive(b)).toMatchObject({ total: 50, title: '' });
  });

  test('history 36: a conflict is decided while the request with an earlier change is under way, and its row moves again', async () => {
    const network = new BadNetwork(world.server.url);
    await a.close();
    a = await open('a.db', 'every step', network);
    await b.update('hive', 'h', { title: 'theirs' });
    await b.sync();
    await a.update('hive', 'h', { own0: 'before' });
    await a.update('hive', 'h', { title: 'mine' });
    let decided: Promise<unknown> | undefined;
    const { push, pull } = network;
    const meanwhile = <T>(call: () => Promise<T>): Promise<T> => {
      decided ??= a.conflicts().then(async (open) => {
        if (open.length === 0) {
          decided = undefined;
          return;
        }
        await a.resolve('hive', 'h', { title: { value: 'decided' } }).catch((error) => {
          expect(error.code).toBe('already-sent');
          decided = undefined;
        });
      });
      return call();
    };
    network.push = (body) => meanwhile(() => push(body));
    network.pull = async (request) => {
      await shell.exec("UPDATE hive SET title = title || '!' WHERE id = 'h' AND title LIKE 'theirs%'");
      return meanwhile(() => pull(request));
    };
    await a.sync();
    await decided;
    network.pull = pull;
    if ((await a.conflicts()).length > 0) await a.resolve('hive', 'h', { title: { value: 'decided' } });
    await settle();
    expect(await hive(b)).toMatchObject({ own0: 'before' });
    expect(await hive(a)).toEqual(await hive(b));
    expect(await a.outbox()).toEqual([]);
  });

  test('history 38: a decision is taken back after the server has changed the row again, and the app is killed', async () => {
    await b.update('hive', 'h', { title: 'theirs' });
    await b.sync();
    await a.update('hive', 'h', { title: 'mine' });
    await a.sync();
    await a.resolve('hive', 'h', 'local');
    await a.unresolve('hive', 'h');
    expect(await a.conflicts()).toMatchObject([{ local: 'mine', remote: 'theirs' }]);
    await a.resolve('hive', 'h', 'remote');
    expect(await a.outbox()).toEqual([]);
    await a.unresolve('hive', 'h');
    expect([await a.conflicts(), await hive(a)]).toMatchObject([[{ column: 'title' }], { title: 'mine' }]);
    await a.resolve('hive', 'h', 'local');
    await b.update('hive', 'h', { title: 'theirs again' });
    await b.sync();
    await a.sync({ direction: 'pull' });
    await expect(a.unresolve('hive', 'h')).rejects.toMatchObject({ code: 'nothing-to-undo' });
    // A second opening of the file, as after a kill.
    const again = await open('a.db');
    expect(await again.conflicts()).toMatchObject([{ base: 'theirs', local: 'mine', remote: 'theirs again' }]);
    await again.resolve('hive', 'h', 'local');
    await again.sync();
    await settle();
    expect(await hive(b)).toMatchObject({ title: 'mine' });
  });

  test('history 39: a thousand unsent edits of one row, every tenth of a column in conflict', async () => {
    await b.update('hive', 'h', { title: 'theirs', mass: 1 });
    await b.sync();
    for (let n = 0; n < 1_000; n++)
      await a.update('hive', 'h', n % 10 === 0 ? { title: `mine ${n}` } : { own0: `${n}`, mass: n + 2 });
    await a.sync();
    expect(await a.conflicts()).toMatchObject([{ column: 'title', local: 'mine 990', remote: 'theirs' }]);
    await a.resolve('hive', 'h', 'local');
    await settle();
    expect(await onServer()).toMatchObject({ title: 'mine 990', own0: '999', mass: 1_001 });
  });

  test('history 40: two processes on one file, one syncing, the other undoing and reverting', async () => {
    const other = await open('a.db');
    for (let round = 0; round < 12; round++) {
      const acts = [
        () => a.update('hive', 'h', { own0: `${round}` }),
        () => a.add('hive', 'i', 'frames', 1),
        () => (round % 3 === 0 ? a.undo() : a.revert('hive', 'h', { transactions: 'whole', dependent: 'take back' })),
      ];
      const syncing = other.sync();
      for (const act of acts)
        await act().catch(({ code }) => expect(['already-sent', 'nothing-to-undo']).toContain(code));
      await syncing;
    }
    await other.sync();
    await settle();
    expect([await a.outbox(), await other.outbox()]).toEqual([[], []]);
    for (const id of ['h', 'i']) expect(await hive(a, id)).toEqual(await hive(b, id));
    expect(await hive(other, 'i')).toEqual(await hive(b, 'i'));
  });
});

test.each([
  ["UPDATE koinon_outbox SET sequence = 999 WHERE kind = 'update'", 'does not follow its transaction'],
  ["DELETE FROM koinon_outbox WHERE kind = 'update'", 'has no changes'],
  ["UPDATE koinon_outbox SET origin = NULL WHERE kind = 'transaction'", 'no origin'],
  ["UPDATE koinon_outbox SET columns = '{' WHERE kind = 'update'", 'cannot be read'],
  ["UPDATE koinon_outbox SET state = 'attempted', id = origin WHERE kind = 'transaction'", 'no request under way'],
])(
  'an outbox that was edited by hand (%s) is told by what is wrong with it, and nothing of it is sent',
  async (sql, why) => {
    const world = await World.inTest(register);
    const file = world.path('edited.db');
    const open = (server: string | BadNetwork) => openReplica({ schema: register, file, server });
    const replica = await open(world.server.url);
    await replica.insert('site', { id: 's', name: 'Marrowfen' });
    await replica.sync();
    await replica.update('site', 's', { name: 'Tolver Down' });
    await replica.close();
    const driver = await openNodeDriver({ file });
    expect(verifyFile(driver, register)).toEqual([]);
    driver.exec(sql);
    expect(verifyFile(driver, register).map(({ message }) => message)).toContainEqual(expect.stringContaining(why));
    driver.close();
    const network = new BadNetwork(world.server.url);
    const again = await open(network);
    await expect(again.sync()).rejects.toMatchObject({
      code: 'outbox-inconsistent',
      message: expect.stringContaining(why),
    });
    expect([network.bodies, network.asked]).toEqual([[], []]);
    expect(await again.get('site', 's')).toMatchObject({ name: 'Tolver Down' });
    await again.close();
  },
);

test('what is shown and does not follow from the server’s row and the changes is found', async () => {
  const world = await World.inTest(register);
  const replica = await openReplica({ schema: register, file: world.path('shown.db'), server: world.server.url });
  await replica.insert('site', { id: 's', name: 'Marrowfen' });
  await replica.sync();
  await replica.update('site', 's', { name: 'Tolver Down' });
  await replica.close();
  const driver = await openNodeDriver({ file: world.path('shown.db') });
  driver.exec("UPDATE site SET name = 'by hand'");
  expect(verifyFile(driver, register)).toMatchObject([
    { row: { table: 'site', id: 's' }, message: expect.stringContaining('by hand') },
  ]);
  driver.exec("UPDATE site SET name = 'Tolver Down'; DELETE FROM koinon_base");
  expect(verifyFile(driver, register)).not.toEqual([]);
  driver.close();
});
