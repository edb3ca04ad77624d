import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { openNodeDriver, openReplica, type Replica } from '@koinon/client';
import { integer, schema, table, text } from '@koinon/core';
import { type BenchRow, perSecond } from './measure.ts';
import { folderOf } from './served.ts';
import { bareWriter, columns, fill, prepareBare, type Visits, visit, visits } from './visits.ts';

/** The same file twice: bare SQLite with a queue table, and a replica; both filled with rows that are not queued. */
async function twoSides(size: number, durability: 'process' | 'power-loss' = 'process') {
  const folder = folderOf();
  const bare = await openNodeDriver({ file: join(folder, 'bare.db') });
  prepareBare(bare);
  fill(bare, size);
  await (await openReplica({ schema: visits, file: join(folder, 'replica.db') })).close();
  const filling = await openNodeDriver({ file: join(folder, 'replica.db') });
  fill(filling, size);
  filling.close();
  if (durability === 'power-loss') bare.exec('PRAGMA synchronous = full');
  const replica = await openReplica({ schema: visits, file: join(folder, 'replica.db'), durability });
  return {
    bare,
    replica,
    async close() {
      bare.close();
      await replica.close();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

const singleWrites = 2_000;
const reads = 20_000;
const liveQueries = 1_000;

function write(size: number, durability: 'process' | 'power-loss' = 'process'): BenchRow {
  return {
    row: durability === 'process' ? `write-${size}` : 'write-power-loss',
    unit: 'writes/s',
    reach: { least: 0.6 },
    async prepare() {
      const { bare, replica, close } = await twoSides(size, durability);
      const writer = bareWriter(bare);
      let next = 0;
      const rows = () => Array.from({ length: singleWrites }, () => visit(next++, 'w'));
      return {
        floor: () => {
          const given = rows();
          return perSecond(singleWrites, () => given.forEach((row) => void writer.all([row])));
        },
        koinon: () => writeEach(replica, rows()),
        close,
      };
    },
  };
}

/** What keys of other kinds cost a write, against rows whose id the device makes. */
function writeKeyed(kind: 'given' | 'joined'): BenchRow {
  return {
    row: `write-keys-${kind}`,
    unit: 'writes/s',
    reach: { least: 0.83 },
    async prepare() {
      const columns = { place: text(), turn: integer(), words: text() };
      const keyed = schema({
        own: table(columns),
        given: table(columns, { assignedKey: true }),
        joined: table(columns, { key: ['place', 'turn'] }),
      });
      const folder = folderOf();
      const replica = await openReplica({ schema: keyed, file: join(folder, 'replica.db') });
      let next = 0;
      const into = (name: 'own' | 'given' | 'joined') => () => {
        const rows = Array.from({ length: singleWrites }, () => ({
          place: 'Marrowfen',
          turn: next++,
          words: 'gentle, four frames of brood',
        }));
        return perSecond(singleWrites, async () => {
          for (const row of rows) await replica.insert(name, row);
        });
      };
      return {
        floor: into('own'),
        koinon: into(kind),
        async close() {
          await replica.close();
          rmSync(folder, { recursive: true, force: true });
        },
      };
    },
  };
}

function writeEach(replica: Replica<Visits>, rows: readonly ReturnType<typeof visit>[]): Promise<number> {
  return perSecond(rows.length, async () => {
    for (const row of rows) await replica.insert('visit', row);
  });
}

function bulk(size: number): BenchRow {
  return {
    row: `bulk-${size}`,
    unit: 'rows/s',
    // Each round adds its rows to those before it.
    ...(size > 100_000 ? { rounds: 1 } : {}),
    ...(size === 100_000 ? { reach: { least: 0.7 } } : {}),
    async prepare() {
      const { bare, replica, close } = await twoSides(0);
      const writer = bareWriter(bare);
      let next = 0;
      const rows = () => Array.from({ length: size }, () => visit(next++, 'b'));
      return {
        floor: () => {
          const given = rows();
          return perSecond(size, () => writer.all(given));
        },
        koinon: () => {
          const given = rows();
          return perSecond(size, async () => void (await replica.insertAll('visit', given)));
        },
        close,
      };
    },
  };
}

function pointRead(size: number): BenchRow {
  return {
    row: `read-${size}`,
    unit: 'reads/s',
    reach: { least: 0.6 },
    async prepare() {
      const { bare, replica, close } = await twoSides(size);
      const get = bare.prepare(`SELECT ${columns.join(', ')} FROM visit WHERE id = ?`);
      // A stride that is prime to the sizes visits rows all over the table.
      const ids = Array.from({ length: reads }, (_, n) => visit((n * 7919) % size).id);
      return {
        floor: () => perSecond(reads, () => ids.forEach((id) => void get.get(id))),
        koinon: () =>
          perSecond(reads, async () => {
            for (const id of ids) await replica.get('visit', id);
          }),
        close,
      };
    },
  };
}

function scan(size: number): BenchRow {
  return {
    row: `scan-${size}`,
    unit: 'rows/s',
    ...(size === 100_000 ? { reach: { least: 0.8 } } : {}),
    async prepare() {
      const { bare, replica, close } = await twoSides(size);
      const all = bare.prepare(`SELECT ${columns.join(', ')} FROM visit ORDER BY id`);
      const times = Math.max(1, Math.floor(100_000 / size));
      return {
        floor: () =>
          perSecond(size * times, () => {
            for (let n = 0; n < times; n++) all.all();
          }),
        koinon: () =>
          perSecond(size * times, async () => {
            for (let n = 0; n < times; n++) await replica.rows({ from: 'visit' });
          }),
        close,
      };
    },
  };
}

function idleLive(size: number): BenchRow {
  return {
    row: `live-${size}`,
    unit: 'ms/write',
    reach: { most: 1.5 },
    async prepare() {
      const without = await twoSides(size);
      const { replica, bare, close } = await twoSides(size);
      void bare;
      const stops = Array.from({ length: liveQueries }, (_, n) =>
        // Half watch a row, half a hive; none of them those that are written.
        replica
          .live({ from: 'visit', where: n % 2 === 0 ? { id: visit(n).id } : { hive: `hive-${n % 900}` }, limit: 50 })
          .subscribe(() => undefined),
      );
      await replica.count({ from: 'visit' });
      let next = 0;
      const rows = () =>
        Array.from({ length: singleWrites }, () => ({ ...visit(next++, 'l'), hive: 'hive-elsewhere' }));
      const time = async (side: Replica<Visits>) => 1000 / (await writeEach(side, rows()));
      return {
        floor: () => time(without.replica),
        koinon: () => time(replica),
        async close() {
          for (const stop of stops) stop();
          await close();
          await without.close();
        },
      };
    },
  };
}

const sizes = [1_000, 100_000, 1_000_000];

/** The rows of the local database, each at three sizes. */
export const localRows: readonly BenchRow[] = [
  ...[write, bulk, pointRead, scan, idleLive].flatMap((row) => sizes.map((size) => row(size))),
  writeKeyed('given'),
  writeKeyed('joined'),
  write(1_000, 'power-loss'),
];
