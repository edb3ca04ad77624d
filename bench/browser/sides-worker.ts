import { openReplica, type Replica, type SqlDriver } from '@koinon/client';
import { openPrivateFile } from '@koinon/client/browser';
import { bareWriter, columns, fill, prepareBare, type Visits, visit, visits } from '../visits.ts';

// The two sides in one worker: bare SQLite, and a replica, each on private files of its own.

let bare: SqlDriver;
let replica: Replica<Visits>;
let next = 0;

const works = {
  async prepare(size: number) {
    bare = (await openPrivateFile(`bare ${crypto.randomUUID()}`, crypto.randomUUID())).driver;
    prepareBare(bare);
    fill(bare, size);
    const { driver } = await openPrivateFile(`replica ${crypto.randomUUID()}`, crypto.randomUUID());
    replica = await openReplica({ schema: visits, driver });
    fill(driver, size);
  },
  bulkFloor(size: number) {
    bareWriter(bare).all(Array.from({ length: size }, () => visit(next++, 'b')));
  },
  async bulkKoinon(size: number) {
    await replica.insertAll(
      'visit',
      Array.from({ length: size }, () => visit(next++, 'b')),
    );
  },
  scanFloor() {
    bare.prepare(`SELECT ${columns.join(', ')} FROM visit ORDER BY id`).all();
  },
  async scanKoinon() {
    await replica.rows({ from: 'visit' });
  },
  readFloor(n: number) {
    return bare.prepare(`SELECT ${columns.join(', ')} FROM visit WHERE id = ?`).get(visit(n).id);
  },
};

/** The requests of the page to this worker. */
export type Work = keyof typeof works;

self.onmessage = async ({ data }: MessageEvent<{ work: Work; given: number }>) => {
  const start = performance.now();
  await works[data.work](data.given);
  self.postMessage(performance.now() - start);
};
