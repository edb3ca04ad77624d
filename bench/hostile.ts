import { type ChildProcess, fork } from 'node:child_process';
import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { openNodeDriver } from '@koinon/client';
import type { BenchRow } from './measure.ts';
import { folderOf } from './served.ts';

// Honest requests beside hostile ones: what they keep of their throughput, and what the server takes in memory.

const [sites, hives, pulls] = [200, 20, 600];

const started = (script: string, ...args: string[]) =>
  fork(join(import.meta.dirname, script), args, { execArgv: process.execArgv });

const told = <Message>(child: ChildProcess) =>
  new Promise<Message>((hear) => child.once('message', (message) => hear(message as Message)));

/** A server with a register in it, in a process of its own. */
async function server() {
  const folder = folderOf();
  const file = join(folder, 'server.db');
  const child = started('hostile-server.ts', file);
  const { url } = await told<{ url: string }>(child);
  const office = await openNodeDriver({ file });
  office.exec('BEGIN');
  const site = office.prepare('INSERT INTO site VALUES (?, ?, ?, 1)');
  const hive = office.prepare("INSERT INTO hive VALUES (?, ?, 'marked', ?, 0, '[]')");
  for (let n = 0; n < sites; n++) {
    site.run(`site-${n}`, `Site ${n}`, `keeper-${n % 20}`);
    for (let of = 0; of < hives; of++) hive.run(`hive-${n}-${of}`, `site-${n}`, of);
  }
  office.exec('COMMIT');
  office.exec("DELETE FROM hive WHERE id LIKE 'hive-19%'");
  office.close();
  return {
    url,
    async memory(): Promise<number> {
      const heard = told<{ memory: number }>(child);
      child.send('memory');
      return (await heard).memory / 1e6;
    },
    close() {
      child.disconnect();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

/** First downloads of twenty keepers, four at a time: how many a second. */
async function honest(url: string): Promise<number> {
  let done = 0;
  const lane = async (n: number) => {
    while (done++ < pulls) {
      const answer = await fetch(`${url}/v1/pull`, {
        method: 'POST',
        headers: {
          'content-type': 'application/json',
          authorization: `Bearer keeper-${done % 20}`,
          'x-forwarded-for': `198.51.100.${n}`,
        },
        body: '{}',
      });
      if (answer.status !== 200) throw new Error(`An honest pull was answered with ${answer.status}.`);
      await answer.arrayBuffer();
    }
  };
  const began = performance.now();
  await Promise.all([1, 2, 3, 4].map(lane));
  return pulls / ((performance.now() - began) / 1_000);
}

/** The same beside four addresses that send hostile requests without a pause. */
async function besideHostile(url: string): Promise<number> {
  const child = started('hostile-child.ts', url);
  await new Promise((done) => setTimeout(done, 1_500));
  try {
    return await honest(url);
  } finally {
    child.disconnect();
    await new Promise((done) => child.once('exit', done));
  }
}

const throughput: BenchRow = {
  row: 'hostile-throughput',
  unit: 'first downloads/s beside hostile requests, against without',
  reach: { least: 0.5 },
  rounds: 3,
  async prepare() {
    const it = await server();
    return {
      floor: () => honest(it.url),
      koinon: () => besideHostile(it.url),
      close: async () => it.close(),
    };
  },
};

const memory: BenchRow = {
  row: 'hostile-memory',
  unit: 'MB of the server after hostile requests, against without',
  reach: { most: 1.5 },
  rounds: 1,
  async prepare() {
    const servers = [await server(), await server()] as const;
    return {
      async floor() {
        await honest(servers[0].url);
        return servers[0].memory();
      },
      async koinon() {
        await besideHostile(servers[1].url);
        return servers[1].memory();
      },
      async close() {
        for (const it of servers) it.close();
      },
    };
  },
};

export const hostileRows = [throughput, memory];
