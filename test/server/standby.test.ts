import { randomUUID } from 'node:crypto';
import { openReplica, type Replica } from '@koinon/client';
import type { PullRequest } from '@koinon/core';
import { integer, schema, table, text } from '@koinon/core';
import { postgresStore, type RunningServer, type Scopes, startServer } from '@koinon/server';
import { pino } from 'pino';
import { afterAll, beforeAll, expect, test, vi } from 'vitest';
import {
  type Commons,
  commons,
  commonsScopes,
  commonsServer,
  commonsWorld,
  replicaOf,
  wayTo,
} from '../support/commons.ts';
import { type Pair, standbyPair } from '../support/standby.ts';
import { type Database, databaseOf, type Shell } from '../support/stores.ts';
import { World } from '../support/world.ts';

// Pulls from a real streaming standby: used where it has come far enough, and never answered wrongly.

/** A pull that a standby may answer. */
const asking: PullRequest = { mayBeBehind: true };

let pair: Pair;
beforeAll(async () => {
  pair = await standbyPair();
});
afterAll(() => pair.end());

interface Stage {
  readonly world: World<Commons>;
  readonly shell: Shell;
  /** The servers that the pulls were read from, in order. */
  readonly from: ('database' | 'standby')[];
  /** The way of the person who tends the plots, page by page; a page is asked of the process that `route` names. */
  readonly tender: (name: string, route?: () => 'any' | 'database' | Promise<'database'>) => Promise<Replica<Commons>>;
}

/** Two processes on one database, of which one reads the standby, and a person with two plots and two crops. */
async function staged(work: (stage: Stage) => Promise<void>): Promise<void> {
  const from: Stage['from'] = [];
  const world = await commonsWorld(await databaseOf(pair), {
    observe: (moved) => moved.what === 'pull' && from.push(moved.from),
  });
  const plain = await startServer<Commons>({
    ...commonsServer,
    store: await postgresStore(commons, world.database.address),
    port: 0,
  });
  try {
    const shell = await world.shell();
    await shell.exec("INSERT INTO plot (id, name, open) VALUES ('p0', 'first', false), ('p1', 'second', false)");
    await shell.exec("INSERT INTO tenancy (id, plot, person) VALUES ('t0', 'p0', 'mika'), ('t1', 'p1', 'mika')");
    await shell.exec("INSERT INTO crop (id, plot, label, picked) VALUES ('a', 'p0', 'bean', 0), ('b', 'p0', 'pea', 0)");
    const [any, database] = [world.server.url, plain.url].map((url) => wayTo(url, 'mika'));
    const tender: Stage['tender'] = (name, route = () => 'any') =>
      replicaOf(world, name, {
        server: {
          ...(any as NonNullable<typeof any>),
          pull: async (request, signal) => {
            const way = (await route()) === 'any' ? any : database;
            return (way as NonNullable<typeof any>).pull({ ...request, limit: 1 }, signal);
          },
        },
      });
    await pair.caughtUp();
    // The standby is not used before it has shown what this process wrote.
    await expect
      .poll(async () => {
        await any?.pull(asking);
        return from.at(-1);
      })
      .toBe('standby');
    await work({ world, shell, from, tender });
  } finally {
    vi.useRealTimers();
    // It may be gone.
    await pair.resume().catch(() => undefined);
    await plain.close();
    await world.end();
  }
}

const crops = async (replica: Replica<Commons>) =>
  (await replica.rows({ from: 'crop', order: ['id'] })).map(({ id, label, height }) => [id, label, height]);

test('the standby answers what it knows; the database answers who has sent, or may read, something else since', () =>
  staged(async ({ shell, from, tender }) => {
    const first = await tender('first');
    from.length = 0;
    await first.sync();
    expect(new Set(from)).toEqual(new Set(['standby']));
    await pair.pause();
    await shell.exec("INSERT INTO crop (id, plot, label, picked) VALUES ('c', 'p0', 'leek', 0)");
    const second = await tender('second');
    await second.sync();
    expect(await crops(second)).toEqual(await crops(first));
    from.length = 0;
    await first.update('crop', 'a', { label: 'runner bean' });
    await first.sync();
    expect(from).toContain('database');
    expect(await crops(first)).toEqual([
      ['a', 'runner bean', null],
      ['b', 'pea', null],
      ['c', 'leek', null],
    ]);
    await shell.exec("DELETE FROM tenancy WHERE id = 't0'");
    await second.sync();
    expect(await crops(second)).toEqual([]);
    await pair.resume();
    await pair.caughtUp();
    for (const replica of [first, second]) await replica.sync();
    expect(await crops(first)).toEqual(await crops(second));
  }));

test('who has overtaken an edit is told at once, though the standby does not have it yet', () =>
  staged(async ({ shell, from, tender }) => {
    const replica = await tender('first');
    await replica.sync();
    await pair.pause();
    await shell.exec("UPDATE crop SET height = 7 WHERE id = 'a'");
    await replica.update('crop', 'a', { height: 8 });
    from.length = 0;
    await replica.sync();
    expect(from[0]).toBe('standby');
    expect(await replica.conflicts()).toMatchObject([{ column: 'height', local: 8, remote: 7 }]);
  }));

test('what a transaction writes that runs on while the standby is read comes when it is committed', () =>
  staged(async ({ world, shell, from, tender }) => {
    const office = await world.shell();
    await office.exec("BEGIN; INSERT INTO crop (id, plot, label, picked) VALUES ('c', 'p0', 'leek', 0)");
    await shell.exec("INSERT INTO crop (id, plot, label, picked) VALUES ('d', 'p0', 'kale', 0)");
    await pair.caughtUp();
    const replica = await tender('first');
    from.length = 0;
    await replica.sync();
    expect((await crops(replica)).map(([id]) => id)).toEqual(['a', 'b', 'd']);
    await office.exec('COMMIT');
    await pair.caughtUp();
    await replica.sync();
    expect((await crops(replica)).map(([id]) => id)).toEqual(['a', 'b', 'c', 'd']);
    expect(new Set(from)).toEqual(new Set(['standby']));
  }));

test('a page that the database has answered is not followed by an older one of the standby', () =>
  staged(async ({ shell, tender }) => {
    let pages = 0;
    const replica = await tender('first', () => (++pages === 1 ? 'database' : 'any'));
    await replica.sync();
    await shell.exec("UPDATE crop SET height = 3 WHERE id = 'a'");
    await shell.exec("UPDATE crop SET height = 4 WHERE id = 'b'");
    await pair.caughtUp();
    await pair.pause();
    // The first page leaves out this row, since it comes again behind it.
    await shell.exec("UPDATE crop SET label = 'runner bean' WHERE id = 'a'");
    pages = 0;
    await replica.sync();
    await pair.resume();
    await pair.caughtUp();
    await replica.sync();
    expect(await crops(replica)).toEqual([
      ['a', 'runner bean', 3],
      ['b', 'pea', 4],
    ]);
  }));

test('a row that only the database knew in the middle of a first download, and that is deleted then, goes', () =>
  staged(async ({ shell, tender }) => {
    let pages = 0;
    const replica = await tender('first', () => (++pages === 6 ? made() : 'any'));
    // Two plots, two tenancies and a crop came before.
    const made = async () => {
      await shell.exec("INSERT INTO crop (id, plot, label, picked) VALUES ('aa', 'p0', 'leek', 0)");
      return 'database' as const;
    };
    await pair.pause();
    await replica.sync();
    expect((await crops(replica)).map(([id]) => id)).toEqual(['a', 'aa', 'b']);
    await shell.exec("DELETE FROM crop WHERE id = 'aa'");
    await pair.resume();
    await pair.caughtUp();
    await replica.sync();
    expect((await crops(replica)).map(([id]) => id)).toEqual(['a', 'b']);
  }));

test('what is fetched beside the cursor of an app that was updated is not older than the cursor', async () => {
  const plant = { name: text() };
  const before = schema({ plant: table(plant) }, { version: 1 });
  const after = schema({ plant: table({ ...plant, height: integer({ optional: true }) }) }, { version: 2 });
  const from: string[] = [];
  const world = await World.of(after, await databaseOf(pair), {
    observe: (moved) => moved.what === 'pull' && from.push(moved.from),
  });
  try {
    const shell = await world.shell();
    await shell.exec("INSERT INTO plant (id, name, height) VALUES ('a', 'oak', 1), ('b', 'elm', 2)");
    const opened = (which: typeof before | typeof after, server = world.server.url) =>
      openReplica({ schema: which as typeof after, file: world.path('first.db'), server });
    const old = await opened(before);
    await expect
      .poll(async () => {
        await old.sync();
        return from.at(-1);
      })
      .toBe('standby');
    await pair.pause();
    await shell.exec("UPDATE plant SET height = 5 WHERE id = 'a'; DELETE FROM plant WHERE id = 'b'");
    await old.close();
    // A process that does not read the standby brings the own cursor past it.
    const store = await postgresStore(after, world.database.address);
    const plain = await startServer({ store, port: 0 });
    const later = await opened(before, plain.url);
    await later.sync();
    await later.close();
    await plain.close();
    const replica = await opened(after);
    await replica.sync();
    expect(await replica.rows({ from: 'plant', columns: ['id', 'height'], order: ['id'] })).toEqual([
      { id: 'a', height: 5 },
    ]);
    await replica.close();
  } finally {
    await pair.resume();
    await world.end();
  }
});

/** The same database on the standby. */
const standbyOf = ({ address }: Database) =>
  Object.assign(new URL(pair.standby), { pathname: new URL(address).pathname }).href;

/** Everybody gets everything. */
const open = { plot: 'all', tenancy: 'all', crop: 'all', note: 'all' } as const;

/** A server on a database, with what it logs. */
async function logged({ address }: Database, readFrom: string, scopes: Scopes<Commons> = commonsScopes) {
  const said: string[] = [];
  const logger = pino(
    { level: 'info' },
    { write: (line: string) => said.push((JSON.parse(line) as { msg: string }).msg) },
  );
  const from: string[] = [];
  const server = await startServer<Commons>({
    ...commonsServer,
    scopes,
    store: await postgresStore(commons, address, { readFrom }),
    port: 0,
    logger,
    observe: (moved) => moved.what === 'pull' && from.push(moved.from),
  });
  return { server, said, from };
}

/** Pulls until the log says something. */
async function pullsUntil(server: RunningServer, said: readonly string[], what: RegExp, wait: () => void = () => {}) {
  await expect
    .poll(async () => {
      wait();
      await wayTo(server.url, 'mika').pull(asking);
      return said.some((line) => what.test(line));
    })
    .toBe(true);
}

test('an error of the app’s own scopes, or of the database itself, is not told as one of the standby', () =>
  staged(async ({ world, shell }) => {
    let fails = false;
    const read = () => {
      if (fails) throw new Error('the scope of the app');
      return 'all' as const;
    };
    const { server, said, from } = await logged(world.database, standbyOf(world.database), { ...open, plot: { read } });
    await expect
      .poll(async () => {
        await wayTo(server.url, 'mika').pull(asking);
        return from.at(-1);
      })
      .toBe('standby');
    fails = true;
    await expect(wayTo(server.url, 'mika').pull(asking)).rejects.toMatchObject({ code: 'server-failure' });
    fails = false;
    await pair.pause();
    await shell.exec('ALTER TABLE koinon.upload RENAME TO away');
    await expect(wayTo(server.url, 'mika').pull({ ...asking, replica: randomUUID() })).rejects.toThrow();
    await shell.exec('ALTER TABLE koinon.away RENAME TO upload');
    await server.close();
    expect(said.filter((line) => /standby/.test(line))).toEqual([]);
  }));

test('a standby whose replay stops, that is of another database, is gone or is promoted is told of, and not used', () =>
  staged(async ({ world }) => {
    const { database } = world;
    const standby = standbyOf(database);
    const wrong = await logged(database, database.address);
    await pullsUntil(wrong.server, wrong.said, /is not a standby/);
    for (const isServed of [false, true]) {
      const other = await databaseOf(pair);
      if (isServed) await (await other.open(commons)).close();
      await pair.caughtUp();
      const elsewhere = await logged(database, standbyOf(other));
      await pullsUntil(elsewhere.server, elsewhere.said, /standby of another database/);
      expect(elsewhere.from).not.toContain('standby');
      await elsewhere.server.close();
      await other.drop();
    }
    const { server, said, from } = await logged(database, standby);
    await expect
      .poll(async () => {
        await wayTo(server.url, 'mika').pull(asking);
        return from.at(-1);
      })
      .toBe('standby');
    await pair.pause();
    vi.useFakeTimers({ toFake: ['performance'] });
    await pullsUntil(server, said, /replay has stopped/, () => vi.advanceTimersByTime(1_100));
    expect(from.at(-1)).toBe('database');
    await pair.resume();
    await pair.caughtUp();
    await pullsUntil(server, said, /can be read again/, () => vi.advanceTimersByTime(1_100));
    await pair.promote();
    await pullsUntil(server, said, /is not a standby/, () => vi.advanceTimersByTime(1_100));
    await pair.stopStandby();
    await pullsUntil(server, said, /cannot be read/, () => vi.advanceTimersByTime(1_100));
    expect(wrong.from).not.toContain('standby');
    for (const each of [wrong.server, server]) await each.close();
  }));

test('an address that is no URL is refused at start', async () => {
  await expect(postgresStore(commons, pair.primary, { readFrom: 'standby' })).rejects.toMatchObject({
    code: 'argument-invalid',
  });
});
