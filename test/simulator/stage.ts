import { KoinonError } from '@koinon/core';
import type { Clock } from './clock.ts';
import type { Device } from './device.ts';
import type { Storage } from './disk.ts';
import type { Ground } from './ground.ts';
import type { History, Settings, StepKind } from './history.ts';
import { type Act, Ledger, type Row, Violation } from './ledger.ts';
import type { Weather } from './on-demand.ts';
import type { Parts } from './parts.ts';
import { Random } from './random.ts';

/** The errors that a person or an app may meet with in a history; anything else is a fault. */
const expected = new Set([
  'server-unreachable',
  'sync-busy',
  // Another process has a transaction of the same file open.
  'replica-busy',
  // The server was restored in the middle of a sync, or before one that only sends; the next one starts over.
  'feed-restored',
  'cancelled',
  'no-such-row',
  'no-such-conflict',
  'no-such-reference',
  'row-referenced',
  'duplicate-value',
  'duplicate-id',
  'already-sent',
  'nothing-to-undo',
  'nothing-to-redo',
  'transaction-shared',
  'change-needed',
]);

/** The numbers of a step: they are taken modulo what there is. */
export interface Chance {
  readonly a: number;
  readonly b: number;
  readonly c: number;
}

/** Does one kind of step. */
export type Perform = (stage: Stage, device: Device, chance: Chance) => Promise<void>;

/** How each of some kinds of steps is done. */
export type Performs<Kind extends StepKind> = Readonly<Record<Kind, Perform>>;

/** A copy of a device's file, and what was known of it by then. */
interface Kept {
  readonly file: string;
  readonly device: Device;
  readonly stack: readonly Act[];
  readonly holds: ReadonlyMap<string, readonly string[]>;
  readonly toldWeather: number;
}

/** The stage of a history: devices, time and the server; and the ledger of it. */
export class Stage {
  readonly parts: Parts;
  readonly ground: Ground;
  readonly random: Random;
  readonly clock: Clock;
  readonly ledger = new Ledger();
  readonly devices: Device[] = [];
  readonly kept: Kept[] = [];
  readonly weather: Weather = { version: 0 };
  readonly backups: string[] = [];
  /** Tells whether the server is put back in this history. */
  readonly isRestored: boolean;
  readonly isScoped: boolean;
  readonly isGrowing: boolean;
  /** Whose app does something just now: what it does comes to nothing where its process is killed. */
  acting: Device | undefined;
  /** The events so far, to be read. */
  readonly log: string[] = [];
  private made = 0;

  constructor(history: History, ground: Ground, parts: Parts) {
    this.parts = parts;
    this.ground = ground;
    this.random = new Random(history.seed ^ 0x5bd1e995);
    this.clock = parts.clock();
    this.isScoped = history.isScoped;
    this.isGrowing = history.isGrowing;
    this.isRestored = history.steps.some((step) => step.do === 'restore');
  }

  /** A device with a file, on which no app runs yet. @param owner the number of its user, who may have another device. */
  addDevice(disk: Storage, settings: Settings, owner = this.devices.length): Device {
    const user = this.isScoped ? `keeper-${owner}` : undefined;
    const way = { user, connect: () => this.ground.connect(user), latency: () => 1 + this.random.below(30) };
    const draw = () => this.random.next();
    const device = this.parts.device(this.devices.length, disk, settings, this.clock, way, owner, draw, this.ground);
    this.devices.push(device);
    return device;
  }

  /** A number that no other row of the history has. */
  newNumber(): number {
    return this.made++;
  }

  /** Waits for something; what a person is told is passed on, everything else is a fault. */
  async until<T>(promise: Promise<T>): Promise<T | undefined> {
    try {
      return await this.clock.until(promise, () => this.acting?.process.isDead === true);
    } catch (error) {
      if (error instanceof KoinonError && expected.has(error.code)) {
        this.log.push(`   told: ${error.code}`);
        return undefined;
      }
      if (/process was killed|runs the replica is gone/.test(String(error))) return undefined;
      const { message, stack, code } = error as KoinonError;
      throw new Violation(`an unexpected error: ${code ?? ''} ${message}\n${stack}`);
    }
  }

  /** Starts the app again where it was killed; what it had been told to write may be there. */
  async reopen(device: Device): Promise<void> {
    if (!device.process.isDead) return;
    await device.kill();
    device.undone.length = 0;
    await device.open();
    await this.clock.pass(0);
  }

  async hivesOf({ replica }: Device): Promise<readonly Row[]> {
    return ((await this.until(replica.rows({ from: 'hive', order: ['id'] }))) ?? []) as readonly Row[];
  }

  async hiveOf(device: Device, { a }: Chance): Promise<Row | undefined> {
    const rows = await this.hivesOf(device);
    return rows[a % Math.max(1, rows.length)];
  }

  /** The content of a device's outbox. */
  async origins(device: Device): Promise<readonly string[]> {
    const outbox = await this.until(device.replica.outbox());
    if (outbox === undefined) {
      await this.reopen(device);
      return ((await this.until(device.replica.outbox())) ?? []).map(({ origin }) => origin);
    }
    return outbox.map(({ origin }) => origin);
  }

  /** Somebody does something on a device, and is told that it is done. */
  async act(device: Device, about: Partial<Act>, work: () => Promise<unknown>): Promise<void> {
    const { acts, frozen } = this.ledger;
    const before = new Set(acts.map(({ origin }) => origin));
    await this.until(work());
    // Killed right after the commit: it was not told, and it is there.
    await this.reopen(device);
    const origin = (await this.origins(device)).find((each) => !before.has(each));
    if (origin === undefined) return;
    const act: Act = { n: acts.length, device: device.index, origin, isRemoved: false, isUnsure: false, ...about };
    acts.push(act);
    for (const each of frozen) if (each.device === device.index) frozen.delete(each);
    device.stack.push(act);
    device.undone.length = 0;
    this.log.push(`   act ${act.n}`);
  }

  /** Something that takes acts out of the outbox; what is gone then was taken back. Returns the acts that are gone. */
  async removing(device: Device, work: () => Promise<unknown>): Promise<readonly Act[]> {
    const before = await this.origins(device);
    // Refused: what is gone then was confirmed meanwhile.
    if ((await this.until(work().then(() => true))) === undefined) return [];
    await this.reopen(device);
    const after = new Set(await this.origins(device));
    const gone = this.ledger.acts.filter(({ origin }) => before.includes(origin) && !after.has(origin));
    // While a sync is under way it may have been confirmed instead.
    const isCertain = !device.isAutomatic && !device.isCopied && !device.isPutBack && !device.isSyncing;
    for (const act of gone) {
      if (isCertain) act.isRemoved = true;
      else act.isUnsure = true;
    }
    device.stack = device.stack.filter((act) => !gone.includes(act));
    if (gone.length > 0)
      this.log.push(`   gone: ${gone.map(({ n }) => `act ${n}`).join()}${isCertain ? '' : ', perhaps confirmed'}`);
    return gone;
  }
}
