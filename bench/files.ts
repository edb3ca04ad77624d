import { execFile, fork } from 'node:child_process';
import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream, rmSync } from 'node:fs';
import { join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import { promisify } from 'node:util';
import type { FileValue } from '@koinon/core';
import { openAlbum, pieces } from './album.ts';
import type { BenchRow } from './measure.ts';
import { uncounted } from './processor-time.ts';
import { folderOf } from './served.ts';

// Contents of files, up and down, against a bare streamed transfer with a digest.

const bytes = 200_000_000;

async function server(folder: string) {
  const child = fork(join(import.meta.dirname, 'files-server.ts'), [folder], { execArgv: process.execArgv });
  const told = <Message>() =>
    new Promise<Message>((hear) => child.once('message', (message) => hear(message as Message)));
  const started = await told<{ bare: string; url: string; idle: number }>();
  return {
    ...started,
    async most(): Promise<number> {
      const heard = told<{ most: number }>();
      child.send('most');
      return (await heard).most;
    },
    close() {
      child.disconnect();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

const perSecond = (began: number) => bytes / 1e6 / ((performance.now() - began) / 1_000);

function transfer(way: 'up' | 'down'): BenchRow {
  return {
    row: `files-${way}`,
    unit: 'MB/s',
    reach: { least: 0.7 },
    async prepare() {
      const folder = folderOf();
      const at = await server(folder);
      const device = await openAlbum(at.url, join(folder, 'one'));
      const bare = join(folder, 'bare-film');
      await pipeline(pieces(bytes), createWriteStream(bare));
      const sendBare = async () => {
        const body = createReadStream(bare);
        const request: RequestInit & { readonly duplex: 'half' } = {
          method: 'POST',
          body: body as never,
          duplex: 'half',
        };
        await (await fetch(at.bare, request)).text();
      };
      if (way === 'down') {
        await sendBare();
        await device.film(bytes);
        await device.send();
      }
      let devices = 0;
      return {
        async floor() {
          const began = performance.now();
          if (way === 'up') {
            await sendBare();
            return perSecond(began);
          }
          const hash = createHash('sha256');
          const answer = await fetch(at.bare);
          await pipeline(
            answer.body as ReadableStream<Uint8Array>,
            async function* (chunks: AsyncIterable<Uint8Array>) {
              for await (const chunk of chunks) {
                hash.update(chunk);
                yield chunk;
              }
            },
            createWriteStream(join(folder, 'bare-fetched')),
          );
          hash.digest();
          return perSecond(began);
        },
        async koinon() {
          if (way === 'up') {
            await uncounted(() => device.film(bytes));
            const began = performance.now();
            await device.send();
            return perSecond(began);
          }
          const other = await openAlbum(at.url, join(folder, `other-${++devices}`));
          await other.replica.sync();
          const [film] = await other.replica.rows({ from: 'film' });
          if (film === undefined) throw new Error('The row has not come.');
          const began = performance.now();
          await other.files.openFile(film.content);
          const rate = perSecond(began);
          await other.files.erase();
          await other.close();
          return rate;
        },
        async close() {
          await device.close();
          at.close();
        },
      };
    },
  };
}

const run = promisify(execFile);

/** Memory above what each took before, at most of the three: the device that sends a film of 1 GB, the server, and the device that fetches it. */
const memory: BenchRow = {
  row: 'files-memory',
  unit: 'MB above idle, 1 GB',
  reach: { most: 50, of: 'figure' },
  rounds: 1,
  async prepare() {
    const script = join(import.meta.dirname, 'files-device.ts');
    return {
      async floor() {
        const folder = folderOf();
        const at = await server(folder);
        const { stdout } = await run(process.execPath, [
          ...process.execArgv,
          ...[join(import.meta.dirname, 'files-bare.ts'), at.bare, join(folder, 'bare'), '1000000000'],
        ]);
        at.close();
        return Number(stdout);
      },
      async koinon() {
        const folder = folderOf();
        const at = await server(folder);
        const device = async (way: 'up' | 'down') => {
          const { stdout } = await run(process.execPath, [
            ...process.execArgv,
            ...[script, way, at.url, join(folder, way), '1000000000'],
          ]);
          return Number(stdout);
        };
        const [up, down] = [await device('up'), await device('down')];
        const serverMost = (await at.most()) - at.idle;
        if (process.env.KOINON_BENCH_PARTS) console.error({ up, down, server: serverMost });
        at.close();
        return Math.max(up, down, serverMost);
      },
      close: async () => undefined,
    };
  },
};

const photoBytes = 2_000_000;

/** Photos of 2 MB, three at once. */
function photos(count: number): BenchRow {
  return {
    row: `files-photos-${count}`,
    unit: 'photos/s',
    reach: { least: 0.7 },
    rounds: 1,
    async prepare() {
      const folder = folderOf();
      const at = await server(folder);
      const device = await openAlbum(at.url, join(folder, 'one'));
      const bare = join(folder, 'bare-photo');
      await pipeline(pieces(photoBytes), createWriteStream(bare));
      const rate = (began: number) => count / ((performance.now() - began) / 1_000);
      return {
        async floor() {
          let left = count;
          const began = performance.now();
          const send = async () => {
            while (left-- > 0) {
              const request: RequestInit & { readonly duplex: 'half' } = {
                method: 'POST',
                body: createReadStream(bare) as never,
                duplex: 'half',
              };
              await (await fetch(at.bare, request)).text();
            }
          };
          await Promise.all([send(), send(), send()]);
          return rate(began);
        },
        async koinon() {
          await uncounted(async () => {
            for (let n = 0; n < count; n++) await device.film(photoBytes);
          });
          const began = performance.now();
          await device.send();
          return rate(began);
        },
        async close() {
          await device.close();
          at.close();
        },
      };
    },
  };
}

/** The time from a row's commit on one device until the other one has it, with and without a large file whose content is on its way. */
const delay: BenchRow = {
  row: 'files-row-delay',
  unit: 'ms',
  reach: { most: 1.2 },
  async prepare() {
    const folder = folderOf();
    const at = await server(folder);
    const one = await openAlbum(at.url, join(folder, 'one'), {});
    const other = await openAlbum(at.url, join(folder, 'other'), {});
    const small = await one.files.saveFile(new Uint8Array(1), { type: 'application/octet-stream' });
    for (const { replica } of [one, other])
      for await (const { rows } of replica.syncState()) if (rows[0]?.phase === 'live') break;
    const arrival = async (content: FileValue) => {
      let began = 0;
      let id = '';
      const arrived = new Promise<number>((done) => {
        const stop = other.replica.listen('film', (events) => {
          if (!events.some(({ after }) => after?.id === id)) return;
          stop();
          done(performance.now() - began);
        });
      });
      id = crypto.randomUUID();
      began = performance.now();
      await one.replica.insert('film', { id, content });
      return arrived;
    };
    return {
      // Rested each time: a connection that was busy a moment ago would be faster.
      async floor() {
        await rest(300);
        return arrival(small);
      },
      async koinon() {
        const large = await uncounted(() =>
          one.files.saveFile(pieces(100_000_000), { type: 'application/octet-stream' }),
        );
        await rest(300);
        return arrival(large);
      },
      async close() {
        await one.close();
        await other.close();
        at.close();
      },
    };
  },
};

const rest = (milliseconds = 20) => new Promise((done) => setTimeout(done, milliseconds));

/** The rows `files`. */
export const fileRows: readonly BenchRow[] = [transfer('up'), transfer('down'), photos(1_000), delay, memory];
