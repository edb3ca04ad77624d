import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { httpTransport, openNodeDriver, openReplica, type Transport } from '@koinon/client';
import { integer, type LiveMessage, reference, schema, table, text } from '@koinon/core';
import { type Scopes, sqliteStore, startServer } from '@koinon/server';
import { WebSocket } from 'ws';
import type { BenchRow } from './measure.ts';
import { folderOf, timePulls } from './served.ts';

// The cost of a user who gets a small part of a large table: as much as if the rest were not there.

const tended = schema({
  site: table({ keeper: text({ filterable: true }) }),
  visit: table({ site: reference('site', { filterable: true }), mites: integer(), notes: text({ optional: true }) }),
});

/** Each keeper gets his sites and the visits there. */
const scopes: Scopes<typeof tended> = {
  site: { read: (user) => ({ keeper: user?.id ?? '' }) },
  visit: { with: 'site' },
};

const sitesEach = 10;
const visitsEach = 1_000;
const keeper = (n: number) => `keeper-${n}`;
const visitId = (owner: number, n: number) => `v-${String(n).padStart(4, '0')}-${owner}`;

/** A server with so many keepers, each with 1,000 visits at 10 sites. */
async function served(keepers: number) {
  const folder = folderOf();
  const file = join(folder, 'server.db');
  const store = await sqliteStore(tended, file);
  const office = await openNodeDriver({ file });
  const site = office.prepare('INSERT INTO site VALUES (?, ?)');
  const visit = office.prepare('INSERT INTO visit VALUES (?, ?, ?, ?)');
  office.exec('BEGIN');
  for (let owner = 0; owner < keepers; owner++) {
    for (let n = 0; n < sitesEach; n++) site.run(`s-${n}-${owner}`, keeper(owner));
    for (let n = 0; n < visitsEach; n++)
      visit.run(visitId(owner, n), `s-${n % sitesEach}-${owner}`, n % 20, n % 3 === 0 ? 'calm, super added' : null);
  }
  office.exec('COMMIT');
  const server = await startServer({
    store,
    port: 0,
    requestsPerMinute: 10_000_000,
    authenticate: (token) => ({ id: token, claims: {} }),
    scopes,
  });
  let devices = 0;
  return {
    office,
    url: server.url,
    open: (who: string, way: Transport = httpTransport(server.url, { token: () => who })) =>
      openReplica({
        schema: tended,
        file: join(folder, `device-${++devices}.db`),
        server: way,
      }),
    async close() {
      office.close();
      await server.close();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

type Served = Awaited<ReturnType<typeof served>>;

/** The same keeper on a server of his own, and among 1,000. */
async function aloneAndAmong() {
  const sides = [await served(1), await served(1_000)] as const;
  return {
    sides,
    async close() {
      for (const side of sides) await side.close();
    },
  };
}

const download: BenchRow = {
  row: 'scope-download',
  unit: 'ms/first download of 1,000 rows, of 1,000,000 against alone',
  reach: { most: 1.3 },
  async prepare() {
    const { sides, close } = await aloneAndAmong();
    const time = async (side: Served) => {
      const replica = await side.open(keeper(0));
      const began = performance.now();
      await replica.sync();
      const took = performance.now() - began;
      if ((await replica.count({ from: 'visit' })) !== visitsEach) throw new Error('not all of the rows came');
      await replica.close();
      return took;
    };
    return { floor: () => time(sides[0]), koinon: () => time(sides[1]), close };
  },
};

/** The rows that move when a site with a tenth of a keeper's rows is given to another, against all that he has. */
const membership: BenchRow = {
  row: 'scope-membership',
  unit: 'kB/one site of ten changes hands, against the first download',
  reach: { most: 0.2 },
  rounds: 3,
  async prepare() {
    const source = await served(10);
    let owner = 0;
    const bytes = async (work: (sync: () => Promise<unknown>) => Promise<unknown>) => {
      const way = httpTransport(source.url, { token: () => keeper(0) });
      const replica = await source.open(keeper(0), way);
      const total = () => (way.bytes?.down ?? 0) / 1000;
      let before = 0;
      await work(() => replica.sync().then(() => (before = total())));
      await replica.sync();
      await replica.close();
      return total() - before;
    };
    return {
      floor: () => bytes(async () => undefined),
      koinon: () =>
        bytes(async (sync) => {
          await sync();
          owner = owner === 0 ? 1 : 0;
          source.office.exec(`UPDATE site SET keeper = '${keeper(owner)}' WHERE id = 's-3-0'`);
        }),
      close: source.close,
    };
  },
};

const pull: BenchRow = {
  row: 'scope-pull',
  unit: 'ms/pull of 10 changes, of 1,000,000 rows against alone',
  reach: { most: 1.3 },
  async prepare() {
    const { sides, close } = await aloneAndAmong();
    const replicas = await Promise.all(sides.map(({ open }) => open(keeper(0))));
    for (const replica of replicas) await replica.sync();
    const time = (side: 0 | 1) =>
      timePulls(
        sides[side].office,
        (n) => visitId(0, n),
        () => (replicas[side] as (typeof replicas)[0]).sync(),
      );
    return {
      floor: () => time(0),
      koinon: () => time(1),
      async close() {
        for (const replica of replicas) await replica.close();
        await close();
      },
    };
  },
};

/** Sockets of as many keepers, five each, that have joined; counts the rows that come to them. */
async function following({ url }: Served, keepers: number) {
  let rows = 0;
  const sockets: WebSocket[] = [];
  for (let owner = 0; owner < keepers; owner++) {
    const { header } = await httpTransport(url, { token: () => keeper(owner) }).pull({});
    await Promise.all(
      Array.from({ length: 5 }, async (_, n) => {
        const socket = new WebSocket(`${url.replace('http', 'ws')}/v1/live`);
        sockets.push(socket);
        await new Promise<void>((done) => socket.once('open', done));
        await new Promise<void>((joined) => {
          socket.on('message', (data) => {
            const message = JSON.parse(String(data)) as LiveMessage;
            if (message.type === 'joined') joined();
            if (message.type === 'window') rows += message.rows.length;
          });
          const replica = `00000000-0000-4000-8000-${String(owner * 10 + n).padStart(12, '0')}`;
          socket.send(JSON.stringify({ join: 1, cursor: header.cursor, replica, token: keeper(owner) }));
        });
      }),
    );
  }
  return {
    rows: () => rows,
    close() {
      for (const socket of sockets) socket.terminate();
    },
  };
}

const edits = 40;

const live: BenchRow = {
  row: 'scope-live',
  unit: 'ms/change until 5 have it, 5,000 connected against those 5',
  reach: { most: 2 },
  rounds: 5,
  async prepare() {
    const { sides, close } = await aloneAndAmong();
    const all = [await following(sides[0], 1), await following(sides[1], 1_000)] as const;
    let next = 0;
    // By way of the server, which then knows at once: looking for the writes of other programs takes longer than all else.
    const insert = async (side: 0 | 1) => {
      const id = `00000000-0000-4000-8000-${String(++next).padStart(12, '0')}`;
      const change = { kind: 'insert', table: 'visit', id, columns: { site: 's-0-0', mites: 1, notes: null } };
      const transaction = { id, editedAt: new Date().toISOString(), dependsOn: [], changes: [change] };
      const replica = '00000000-0000-4000-8000-999999999999';
      await ways[side].push(JSON.stringify({ replica, base: null, transactions: [transaction] }));
    };
    const ways = [sides[0], sides[1]].map(({ url }) => httpTransport(url, { token: () => keeper(0) })) as [
      Transport,
      Transport,
    ];
    const time = async (side: 0 | 1) => {
      const began = performance.now();
      for (let n = 0; n < edits; n++) {
        const before = all[side].rows();
        await insert(side);
        while (all[side].rows() < before + 5) await new Promise((done) => setImmediate(done));
      }
      return (performance.now() - began) / edits;
    };
    return {
      floor: () => time(0),
      koinon: () => time(1),
      async close() {
        for (const each of all) each.close();
        await close();
      },
    };
  },
};

/** The rows about who gets what. */
export const scopeRows: readonly BenchRow[] = [download, membership, pull, live];
