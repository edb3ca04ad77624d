import { fork, spawn } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { rmSync } from 'node:fs';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { openNodeDriver, openReplica, type Upload } from '@koinon/client';
import { type BenchRow, perSecond } from './measure.ts';
import { uncounted } from './processor-time.ts';
import { folderOf, served, timePulls } from './served.ts';
import { columns, insertSql, prepareBare, visit, visits } from './visits.ts';

// Moving rows between a device and a server.

/** The least server: what it is asked is answered with JSON. */
async function bareServer(answer: (request: IncomingMessage, response: ServerResponse) => void) {
  const server: Server = createServer(answer);
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  const { port } = server.address() as AddressInfo;
  return {
    url: `http://127.0.0.1:${port}`,
    close: () => new Promise((done) => server.close(done).closeAllConnections()),
  };
}

/** SELECT, JSON, HTTP, parse, bulk insert, in pages as large as Koinon's. */
async function bareDownload(url: string, file: string): Promise<void> {
  const device = await openNodeDriver({ file });
  prepareBare(device);
  const insert = device.prepare(insertSql);
  for (let after = '', more = true; more; ) {
    const rows = (await (await fetch(`${url}?after=${after}`)).json()) as Record<string, string>[];
    device.exec('BEGIN');
    for (const row of rows) insert.run(...columns.map((name) => row[name] ?? null));
    device.exec('COMMIT');
    more = rows.length === pageRows;
    after = rows.at(-1)?.id ?? '';
  }
  device.close();
}

const pageRows = 5_000;

async function downloadSides(size: number) {
  const source = await served(size);
  const page = source.office.prepare(
    `SELECT ${columns.join(', ')} FROM visit WHERE id > ? ORDER BY id LIMIT ${pageRows}`,
  );
  const bare = await bareServer((request, response) => {
    response.end(JSON.stringify(page.all(new URL(request.url ?? '', 'http://x').searchParams.get('after') ?? '')));
  });
  return {
    source,
    bare,
    async close() {
      await bare.close();
      await source.close();
    },
  };
}

function download(size: number): BenchRow {
  return {
    row: `sync-download-${size}`,
    unit: 'rows/s',
    reach: { least: 0.7 },
    rounds: 5,
    async prepare() {
      const { source, bare, close } = await downloadSides(size);
      return {
        floor: () => perSecond(size, () => bareDownload(bare.url, source.device())),
        koinon: () =>
          perSecond(size, async () => {
            const replica = await openReplica({ schema: visits, file: source.device(), server: source.url });
            await replica.sync();
            await replica.close();
          }),
        close,
      };
    },
  };
}

/** The greatest memory a process of its own needs for a first download, in MB. */
function peakOf(url: string, file: string): Promise<number> {
  const script = join(import.meta.dirname, 'download-child.ts');
  const child = spawn(process.execPath, ['--import', 'tsx', script, url, file], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  return new Promise((done, fail) => {
    let said = '';
    child.stdout.on('data', (data) => {
      said += data;
    });
    child.on('close', (code) =>
      code === 0 ? done(Number(said) / 1024) : fail(new Error(`the download ended with ${code}`)),
    );
  });
}

const memory: BenchRow = {
  row: 'sync-memory',
  unit: 'MB at most, 1,000,000 rows against 100,000',
  reach: { most: 1.3 },
  rounds: 1,
  async prepare() {
    const [few, many] = [await served(100_000), await served(1_000_000)];
    return {
      floor: () => peakOf(few.url, few.device()),
      koinon: () => peakOf(many.url, many.device()),
      async close() {
        await few.close();
        await many.close();
      },
    };
  },
};

const few: BenchRow = {
  row: 'sync-few',
  unit: 'ms/pull of 10 changes, 1,000,000 rows against 1,000',
  reach: { most: 1.3 },
  async prepare() {
    const sides = [await served(1_000), await served(1_000_000)] as const;
    const replicas = await Promise.all(
      sides.map(async ({ url, device }) => openReplica({ schema: visits, file: device(), server: url })),
    );
    for (const replica of replicas) await replica.sync();
    const time = (side: 0 | 1) =>
      timePulls(
        sides[side].office,
        (n) => visit(n).id,
        () => (replicas[side] as (typeof replicas)[0]).sync(),
      );
    return {
      floor: () => time(0),
      koinon: () => time(1),
      async close() {
        for (const replica of replicas) await replica.close();
        for (const { close } of sides) await close();
      },
    };
  },
};

const queued = 10_000;
type Row = ReturnType<typeof visit>;

/** A server that takes uploads, in a process of its own. */
async function uploadServer(kind: 'bare' | 'koinon', folder: string) {
  const script = join(import.meta.dirname, 'upload-server.ts');
  const child = fork(script, [kind, folder], { execArgv: ['--import', 'tsx'] });
  const url = await new Promise<string>((done) => child.once('message', (said) => done(said as string)));
  return {
    url,
    async close() {
      const over = new Promise((done) => child.once('exit', done));
      child.disconnect();
      await over;
    },
  };
}

/** @param together changes that are queued in one transaction. */
const upload = (row: string, unit: string, mode: Upload, together = 1): BenchRow => ({
  row,
  unit,
  reach: { least: 0.5 },
  rounds: 5,
  async prepare() {
    const folder = folderOf();
    const [bare, target] = await Promise.all([uploadServer('bare', folder), uploadServer('koinon', folder)]);
    const queue = await openNodeDriver({ file: join(folder, 'bare.db') });
    prepareBare(queue);
    const never = { open: false, change: false, online: false, visible: false, timer: false };
    const replica = await openReplica({
      schema: visits,
      file: join(folder, 'device.db'),
      server: target.url,
      sync: { upload: mode, when: never, live: false },
    });
    let next = 0;
    const batch = Math.max(1, 500 / together);
    return {
      async floor() {
        await uncounted(() => {
          const add = queue.prepare('INSERT INTO queue (change) VALUES (?)');
          queue.exec('BEGIN');
          for (let n = 0; n < queued; n += together) {
            const rows = Array.from({ length: together }, () => visit(next++, 'f'));
            add.run(JSON.stringify({ id: randomUUID(), editedAt: Date.now(), rows }));
          }
          queue.exec('COMMIT');
        });
        return perSecond(queued, async () => {
          for (;;) {
            const rows = queue.prepare(`SELECT sequence, change FROM queue ORDER BY sequence LIMIT ${batch}`).all() as {
              sequence: number;
              change: string;
            }[];
            if (rows.length === 0) return;
            await (
              await fetch(bare.url, { method: 'POST', body: `[${rows.map(({ change }) => change).join()}]` })
            ).text();
            queue.prepare('DELETE FROM queue WHERE sequence <= ?').run(rows.at(-1)?.sequence ?? 0);
          }
        });
      },
      async koinon() {
        await uncounted(async () => {
          for (let n = 0; n < queued; n += together) {
            const visits = Array.from({ length: together }, () => visit(next++, 'k'));
            await (together === 1 ? replica.insert('visit', visits[0] as Row) : replica.insertAll('visit', visits));
          }
        });
        return perSecond(queued, async () => {
          const { up } = await replica.sync({ direction: 'push' });
          if (mode === 'every step' && up.applied !== queued / together) throw new Error(`${up.applied} were applied`);
        }).finally(() => uncounted(() => replica.sync()));
      },
      async close() {
        queue.close();
        await bare.close();
        await replica.close();
        await target.close();
        rmSync(folder, { recursive: true, force: true });
      },
    };
  },
});

/** The rows of the sync. */
export const syncRows: readonly BenchRow[] = [
  download(100_000),
  memory,
  few,
  upload('sync-upload', 'changes/s, 10,000 queued one by one', 'every step'),
  upload('sync-upload-hundreds', 'changes/s, 10,000 queued a hundred at a time', 'every step', 100),
  upload('sync-upload-latest', 'changes/s, 10,000 queued one by one, the latest state sent', 'latest state'),
];
