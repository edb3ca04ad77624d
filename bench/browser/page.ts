import type { Replica } from '@koinon/client';
import { connectTab } from '@koinon/client/browser';
import { importRows } from '@koinon/client/transfer';
import { visit } from '../visits.ts';
import { photos } from './photos.ts';
import type { Work } from './sides-worker.ts';

declare global {
  interface Window {
    bench: typeof bench;
  }
}

let sides: Worker | undefined;
let replica: Replica<typeof photos>;
let next = 0;

/**
 * Time the main thread has spent in the last message of a worker, over all who listen to it: the first of them has it
 * unpacked, each makes something of it.
 */
let spent = 0;
let lastMessage: Event | undefined;
const listen = Worker.prototype.addEventListener;
Worker.prototype.addEventListener = function (
  this: Worker,
  type: string,
  listener: EventListenerOrEventListenerObject,
  options?: boolean | AddEventListenerOptions,
) {
  const timed = (event: Event) => {
    if (event !== lastMessage) spent = 0;
    lastMessage = event;
    const start = performance.now();
    (listener as EventListener)(event);
    spent += performance.now() - start;
  };
  listen.call(this, type, type === 'message' ? timed : listener, options);
};

const roundTrip = <T>(worker: Worker, message: unknown) =>
  new Promise<T>((done) => {
    worker.onmessage = ({ data }) => done(data as T);
    worker.postMessage(message);
  });

const percentile = (figures: readonly number[], share: number) =>
  [...figures].sort((a, b) => a - b)[Math.ceil(figures.length * share) - 1] as number;

/** Fewer saves than this say nothing about one in a hundred. */
const leastSaves = 100;

const nextFrame = () => new Promise<number>((done) => requestAnimationFrame(done));

const bench = {
  /** Milliseconds a piece of work takes inside the worker with the two sides. */
  side(work: Work, given: number): Promise<number> {
    sides ??= new Worker(new URL('./sides-worker.ts', import.meta.url), { type: 'module' });
    return roundTrip(sides, { work, given });
  },

  async connect(): Promise<void> {
    const worker = new Worker(new URL('./tabs-worker.ts', import.meta.url), { type: 'module' });
    replica = await connectTab(worker, photos, { persist: false });
  },

  async importVisits(count: number): Promise<void> {
    const begun = next;
    next += count;
    await importRows(
      replica,
      photos,
      (function* () {
        for (let n = 0; n < count; n++)
          yield `${JSON.stringify({ table: 'visit', row: visit(begun + n, crypto.randomUUID()) })}\n`;
      })(),
    );
  },

  /** Reads per second through the worker, one after the other. */
  async reads(times: number): Promise<number> {
    const { id } = await replica.insert('visit', visit(next++, crypto.randomUUID()));
    const start = performance.now();
    for (let n = 0; n < times; n++) await replica.get('visit', id);
    return (times / (performance.now() - start)) * 1000;
  },

  /** Bare reads per second: a message there, SQLite, a message back. */
  async bareReads(times: number): Promise<number> {
    const start = performance.now();
    for (let n = 0; n < times; n++) await bench.side('readFloor', n % 1000);
    return (times / (performance.now() - start)) * 1000;
  },

  /**
   * Main-thread milliseconds a save costs while rows are imported, at the 99th percentile: the call, and the message with
   * its outcome. Only saves made while the import was under way count.
   */
  async saves(photoBytes: number, imported: number): Promise<number> {
    let isImporting = true;
    const importing = bench.importVisits(imported).finally(() => {
      isImporting = false;
    });
    const image = new Blob([new Uint8Array(photoBytes)]);
    const costs: number[] = [];
    while (isImporting) {
      const row = visit(next++, crypto.randomUUID());
      const start = performance.now();
      const saving = photoBytes > 0 ? replica.insert('photo', { image }) : replica.insert('visit', row);
      const asked = performance.now() - start;
      await saving;
      costs.push(asked + spent);
      await new Promise((done) => setTimeout(done, 1));
    }
    await importing;
    if (costs.length < leastSaves) throw new Error(`only ${costs.length} saves fell into the import`);
    return percentile(costs, 0.99);
  },

  /** Main-thread milliseconds that only sending the same to a worker costs, at the 99th percentile. */
  async bareSaves(times: number, photoBytes: number): Promise<number> {
    const worker = new Worker(new URL('./echo-worker.ts', import.meta.url), { type: 'module' });
    const image = new Uint8Array(photoBytes);
    const costs: number[] = [];
    for (let n = 0; n < times; n++) {
      const start = performance.now();
      const answered = roundTrip(worker, photoBytes > 0 ? { image } : visit(n));
      costs.push(performance.now() - start);
      await answered;
    }
    worker.terminate();
    return percentile(costs, 0.99);
  },

  /** Milliseconds from a save to its row on the page, at the 95th percentile; the row is one of a list of 50. */
  async shown(times: number): Promise<number> {
    const list = document.querySelector('ol') as HTMLOListElement;
    const hive = crypto.randomUUID();
    let arrived = (_id: string) => {};
    const stop = replica
      .live({ from: 'visit', where: { hive }, limit: 50, order: [['id', 'desc']] })
      .subscribe(({ rows, added }) => {
        list.replaceChildren(
          ...rows.map(({ id }) => {
            const item = document.createElement('li');
            item.textContent = id;
            return item;
          }),
        );
        for (const { id } of added) arrived(id);
      });
    const times95: number[] = [];
    for (let n = 0; n < times; n++) {
      await nextFrame();
      const id = `s-${String(next++).padStart(9, '0')}`;
      const start = performance.now();
      const seen = new Promise<void>((done) => {
        arrived = (shown) => shown === id && done();
      });
      void replica.insert('visit', { ...visit(n), id, hive });
      await seen;
      times95.push(performance.now() - start);
    }
    stop();
    return percentile(times95, 0.95);
  },

  /** Milliseconds from one frame to the next, at the 95th percentile. */
  async frames(times: number): Promise<number> {
    const gaps: number[] = [];
    let last = await nextFrame();
    for (let n = 0; n < times; n++) {
      const now = await nextFrame();
      gaps.push(now - last);
      last = now;
    }
    return percentile(gaps, 0.95);
  },
};

window.bench = bench;
