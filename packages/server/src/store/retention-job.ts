import { setImmediate } from 'node:timers/promises';
import { outdated } from '../cursor/keys.ts';
import type { Contact, Store } from './store.ts';
import type { TrackingFault } from './tracking.ts';

/** How a store is kept in order while it serves. */
export interface RetentionOptions {
  /** Days that deletions and receipts are kept. A device away for longer starts over, without loss. Default 90. */
  readonly keepDays?: number;
  /** The clock, in milliseconds since 1970. */
  readonly now?: () => number;
}

/** Deleted in one database transaction at most: requests get their turn in between. */
const step = 500;

/** Milliseconds between two rounds, between two looks at the tables, and between two writings of what replicas told. */
const roundEvery = 3_600_000;
const lookEvery = 60_000;
const noteEvery = 5_000;

const day = 86_400_000;

/** Milliseconds that parts of a transaction wait for the others. */
const partsKept = day;

/** Forgets deletions and receipts that are old enough, in small steps, and writes down what is known of the replicas. */
export class RetentionJob {
  private readonly store: Store;
  private readonly keep: number;
  private readonly now: () => number;
  private readonly contacts = new Map<string, Contact>();
  private round: NodeJS.Timeout | undefined;
  private noting: NodeJS.Timeout | undefined;

  private readonly report: (fault: TrackingFault) => void;
  private looking: NodeJS.Timeout | undefined;
  /** The faults that have been reported, so that none is said each minute. */
  private reported = new Set<string>();

  /** @param report told of tables that are, or were, followed no longer. */
  constructor(
    store: Store,
    { keepDays = 90, now = Date.now }: RetentionOptions = {},
    report: (fault: TrackingFault) => void = () => undefined,
  ) {
    this.report = report;
    this.store = store;
    this.keep = keepDays * day;
    this.now = now;
  }

  /** Keeps order from now on, until it is stopped. */
  start(): void {
    const round = () => void this.tidy().catch(() => undefined);
    round();
    this.round = setInterval(round, roundEvery).unref();
    const look = () => void this.lookAfterTables().catch(() => undefined);
    look();
    this.looking = setInterval(look, lookEvery).unref();
    this.store.onUntracked = look;
    this.noting = setInterval(() => {
      void this.noteReplicas().catch(() => undefined);
      void this.readKeys().catch(() => undefined);
    }, noteEvery).unref();
  }

  /** Takes in what a request told of its replica; it is written down a little later, many at once. */
  met(contact: Omit<Contact, 'at'>): void {
    const before = this.contacts.get(contact.replica);
    this.contacts.set(contact.replica, {
      replica: contact.replica,
      at: this.now(),
      position: contact.position ?? before?.position ?? null,
      schemaVersion: contact.schemaVersion ?? before?.schemaVersion ?? null,
      rowsDown: contact.rowsDown + (before?.rowsDown ?? 0),
      rowsUp: contact.rowsUp + (before?.rowsUp ?? 0),
    });
  }

  /** Looks whether all tables are followed, and reports what is new. */
  async lookAfterTables(): Promise<void> {
    const faults = await this.store.lookAfterTables();
    for (const fault of faults) if (fault.isRepaired || !this.reported.has(fault.message)) this.report(fault);
    this.reported = new Set(faults.map(({ message }) => message));
  }

  /** One round: notes the time, moves the horizon, and only then deletes what is behind it. Returns how much that was. */
  async tidy(): Promise<number> {
    const now = this.now();
    await this.store.write(async (writer) => {
      await writer.noteTime(now);
      await writer.moveHorizon(now - this.keep);
    });
    for (const { number } of outdated(await this.store.read((reader) => reader.cursorKeys()), now - this.keep))
      await this.store.write((writer) => writer.dropCursorKey(number));
    let deleted = 0;
    for (;;) {
      const some = await this.store.write((writer) => writer.compact(step, now - partsKept));
      deleted += some;
      if (some < step) return deleted;
      // Promises alone would not let a request in.
      await setImmediate();
    }
  }

  /** Takes the keys for cursors that the operator has made or that are kept no longer. */
  private async readKeys(): Promise<void> {
    this.store.keys.replace(await this.store.read((reader) => reader.cursorKeys()));
  }

  /** Writes down what replicas told. */
  async noteReplicas(): Promise<void> {
    const contacts = [...this.contacts.values()];
    this.contacts.clear();
    if (contacts.length > 0) await this.store.write((writer) => writer.noteContacts(contacts));
  }

  /** Stops, with everything written down. */
  async stop(): Promise<void> {
    clearInterval(this.round);
    clearInterval(this.noting);
    clearInterval(this.looking);
    this.store.onUntracked = undefined;
    await this.noteReplicas();
  }
}
