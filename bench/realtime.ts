import { fork, spawn } from 'node:child_process';
import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout } from 'node:timers/promises';
import { openNodeDriver } from '@koinon/client';
import { WebSocket } from 'ws';
import { bareSockets, followers, opened, until } from './followers.ts';
import type { Told } from './hop-device.ts';
import type { BenchRow } from './measure.ts';
import { folderOf, served } from './served.ts';
import { bareWriter, columns, insertSql, prepareBare, visit } from './visits.ts';

// How soon a change is elsewhere, and to how many at once.

/** The least that brings a change from one device to another: each commits it, and so does the server between them, durably. */
async function bareHops(folder: string) {
  const driver = await openNodeDriver({ file: join(folder, 'bare-server.db') });
  driver.exec('PRAGMA synchronous = full');
  prepareBare(driver);
  const kept = bareWriter(driver);
  const server = await bareSockets();
  server.on('connection', (from) => {
    from.on('message', (data) => {
      kept.all([JSON.parse(String(data)) as ReturnType<typeof visit>]);
      for (const to of server.clients) if (to !== from) to.send(String(data));
    });
  });
  const { port } = server.address() as { port: number };
  return {
    url: `ws://127.0.0.1:${port}`,
    close() {
      server.close();
      driver.close();
    },
  };
}

/** A device in a process of its own. */
async function hopDevice(kind: 'bare' | 'koinon', url: string, file: string) {
  const script = join(import.meta.dirname, 'hop-device.ts');
  const child = fork(script, [kind, url, file], { execArgv: ['--import', 'tsx'] });
  const next = () => new Promise<Told>((done) => child.once('message', (told) => done(told as Told)));
  await next();
  return { next, write: (row: ReturnType<typeof visit>) => child.send(row), close: () => child.disconnect() };
}

/** Two devices, and how long a row of the one takes to be told of by the other. In ms, the median of so many. */
async function hops(kind: 'bare' | 'koinon', url: string, files: readonly [string, string], pause: number) {
  const [one, two] = await Promise.all([hopDevice(kind, url, files[0]), hopDevice(kind, url, files[1])]);
  let row = 0;
  return {
    async median() {
      const times: number[] = [];
      for (let n = 0; n < edits; n++) {
        if (pause > 0) await setTimeout(pause);
        const told = Promise.all([one.next(), two.next()]);
        one.write(visit(row++, 'hop'));
        const [{ began }, { arrived }] = (await told) as unknown as [{ began: string }, { arrived: string }];
        times.push(Number(BigInt(arrived) - BigInt(began)) / 1e6);
      }
      return times.sort((a, b) => a - b)[edits >> 1] as number;
    },
    close() {
      one.close();
      two.close();
    },
  };
}

const edits = 100;

/** @param pause milliseconds from when an edit is elsewhere to the next one. */
const hop = (row: string, pause: number): BenchRow => ({
  row,
  unit: pause > 0 ? 'ms, each edit after a pause' : 'ms, one edit right after the other',
  reach: { most: 3 },
  async prepare() {
    const source = await served(1_000);
    const folder = folderOf();
    const bare = await bareHops(folder);
    const floor = await hops('bare', bare.url, [join(folder, 'one.db'), join(folder, 'two.db')], pause);
    const koinon = await hops('koinon', source.url, [source.device(), source.device()], pause);
    return {
      floor: floor.median,
      koinon: koinon.median,
      async close() {
        floor.close();
        koinon.close();
        bare.close();
        await source.close();
        rmSync(folder, { recursive: true, force: true });
      },
    };
  },
});

const windows = 40;

/** How fast a server's writes reach so many, each write waiting for the one before to be everywhere. */
async function broadcast(count: number) {
  const source = await served(0);
  const following = await followers(source.url, count);
  const insert = source.office.prepare(insertSql);
  let next = 0;
  const write = () => {
    const row = visit(next++, 'f');
    insert.run(...columns.map((name) => row[name]));
  };
  return {
    rate: () => rateOf(count, write, following.rows),
    async close() {
      if (following.broken() > 0)
        throw new Error(`${following.broken()} windows did not begin where the one before ended`);
      following.close();
      await source.close();
    },
  };
}

async function rateOf(count: number, send: () => void, arrived: () => number): Promise<number> {
  const before = arrived();
  const began = performance.now();
  for (let n = 1; n <= windows; n++) {
    send();
    await until(() => arrived() - before >= n * count);
  }
  return ((windows * count) / (performance.now() - began)) * 1000;
}

const fanOut: BenchRow = {
  row: 'fan-out-1000',
  unit: 'deliveries/s',
  reach: { least: 0.5 },
  rounds: 3,
  async prepare() {
    const count = 1_000;
    const koinon = await broadcast(count);
    const bare = await bareSockets();
    const { port } = bare.address() as { port: number };
    let received = 0;
    const sockets: WebSocket[] = [];
    for (let n = 0; n < count; n += 200) {
      const some = Array.from({ length: 200 }, () => new WebSocket(`ws://127.0.0.1:${port}`));
      await Promise.all(some.map(opened));
      for (const socket of some)
        socket.on('message', (data) => {
          received += (JSON.parse(String(data)) as { rows: unknown[] }).rows.length;
        });
      sockets.push(...some);
    }
    // As large as a window with one row.
    const send = () => {
      const text = JSON.stringify({ type: 'window', from: 'x'.repeat(130), cursor: 'x'.repeat(130), rows: [visit(0)] });
      for (const client of bare.clients) client.send(text);
    };
    return {
      floor: () => rateOf(count, send, () => received),
      koinon: koinon.rate,
      async close() {
        for (const socket of sockets) socket.terminate();
        bare.close();
        await koinon.close();
      },
    };
  },
};

/** To 5,000, without loss, against the same to 1,000. */
const fanOutWide: BenchRow = {
  row: 'fan-out-5000',
  unit: 'deliveries/s',
  rounds: 3,
  async prepare() {
    const [few, many] = [await broadcast(1_000), await broadcast(5_000)];
    return {
      floor: few.rate,
      koinon: many.rate,
      async close() {
        await few.close();
        await many.close();
      },
    };
  },
};

/** 10,000 rows written as fast as they can be, until 100 replicas have them all; against the writing alone. */
const burst: BenchRow = {
  row: 'burst-10000',
  unit: 's',
  rounds: 3,
  async prepare() {
    const source = await served(0);
    const following = await followers(source.url, 100);
    const size = 10_000;
    let next = 0;
    const write = (kind: string) => {
      const began = performance.now();
      const insert = source.office.prepare(insertSql);
      for (let n = 0; n < size; n += 100) {
        source.office.exec('BEGIN');
        for (let i = 0; i < 100; i++) {
          const row = visit(next++, kind);
          insert.run(...columns.map((name) => row[name]));
        }
        source.office.exec('COMMIT');
      }
      return (performance.now() - began) / 1000;
    };
    return {
      floor: () => {
        const took = write('b');
        return until(() => following.rows() >= next * 100).then(() => took);
      },
      koinon: async () => {
        const began = performance.now();
        write('b');
        await until(() => following.rows() >= next * 100);
        return (performance.now() - began) / 1000;
      },
      async close() {
        if (following.broken() > 0)
          throw new Error(`${following.broken()} windows did not begin where the one before ended`);
        following.close();
        await source.close();
      },
    };
  },
};

/** Bytes that are in use, inside the heap and out. */
function held(): number {
  const { heapUsed, external } = process.memoryUsage();
  return heapUsed + external;
}

/** The memory of the server's process for a connection that rests, in kB: against a WebSocket that does nothing. */
const idle: BenchRow = {
  row: 'idle-connection',
  unit: 'kB',
  rounds: 3,
  async prepare() {
    const count = 1_000;
    const cost = async (url: string, joins: boolean) => {
      globalThis.gc?.();
      const before = held();
      const child = spawn(
        process.execPath,
        ['--import', 'tsx', join(import.meta.dirname, 'followers-child.ts'), url, String(count), joins ? 'joins' : ''],
        { stdio: ['pipe', 'pipe', 'inherit'] },
      );
      await new Promise<void>((ready) => child.stdout.once('data', () => ready()));
      globalThis.gc?.();
      const after = held();
      child.kill();
      await new Promise((done) => child.once('exit', done));
      return Math.max(0.1, (after - before) / count / 1000);
    };
    const source = await served(10);
    const bare = await bareSockets();
    const { port } = bare.address() as { port: number };
    return {
      floor: () => cost(`ws://127.0.0.1:${port}`, false),
      koinon: () => cost(source.url, true),
      async close() {
        bare.close();
        await source.close();
      },
    };
  },
};

/** The rows about realtime. */
export const realtimeRows: readonly BenchRow[] = [
  hop('live-hop', 0),
  // As people edit: now and then. Processes that sleep for long take longer to wake up, bare ones as well.
  hop('live-hop-rested', 20),
  fanOut,
  fanOutWide,
  burst,
  idle,
];
