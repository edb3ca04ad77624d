import { openReplica, type Replica, type Transport } from '@koinon/client';
import { KoinonError } from '@koinon/core';
import type { InProcessConnection } from '@koinon/server';
import { type Clock, SimulatedProcess } from './clock.ts';
import type { Disk, Storage } from './disk.ts';
import type { Fate, Settings } from './history.ts';
import type { Act } from './ledger.ts';
import { always, migrations, type Register, schemaOf } from './schema.ts';

/** How the server is reached just now. */
export interface Way {
  /** Whose device it is, where the server asks. */
  readonly user: string | undefined;
  connect(): InProcessConnection;
  /** Milliseconds that one way takes. */
  latency(): number;
}

const followedPlants = (replica: Replica<Register>) => replica.live({ from: 'plant', order: ['id'] });

/** A device: its file, and the app that runs on it. */
export class Device {
  readonly index: number;
  /** The number of its user. */
  readonly owner: number;
  readonly disk: Storage;
  readonly isJoining: boolean;
  readonly isAutomatic: boolean;
  readonly skew: number;
  process!: Pick<SimulatedProcess, 'isDead' | 'isConnected' | 'connect' | 'toString'>;
  replica!: Replica<Register>;
  /** The acts on this file, in order; what was taken back is not in it. */
  stack: Act[] = [];
  readonly undone: Act[] = [];
  /** The version of its app. */
  version: 1 | 2 = 1;
  fates: Fate[] = [];
  isConnected = true;
  /** Tells whether a sync is under way beside what a person does. */
  isSyncing = false;
  /** Tells whether there is another copy of its file. */
  isCopied = false;
  /** Tells whether its file was put back: what it holds as unsent may have been applied, and its own edits may meet later ones of its own. */
  isPutBack = false;
  /** Tells whether its file is open in two processes. */
  readonly isShared: boolean;
  /** Tells whether it has only the hives that it asks for at run time. */
  readonly isPartial: boolean;
  /** The hives that it was asked to hold, by the name of the holding. */
  holds = new Map<string, readonly string[]>();
  /** The newest weather that it was told to have. */
  toldWeather = 0;
  /** The plants as they are followed, where the device syncs by itself. */
  plants: ReturnType<typeof followedPlants> | undefined;
  /** The process that has the file open besides, and does what it does by itself. */
  private other: Pick<Device, 'process' | 'replica' | 'plants'> | undefined;
  /** The connections of each process, which end with it. */
  private readonly channels = new WeakMap<object, Set<{ close(): void }>>();
  protected readonly clock: Clock;
  protected readonly way: Way;
  private readonly draw: () => number;

  constructor(
    index: number,
    disk: Storage,
    { isJoining, isAutomatic, skew, isShared, isPartial }: Settings,
    clock: Clock,
    way: Way,
    owner: number,
    draw: () => number,
  ) {
    this.index = index;
    this.owner = owner;
    this.disk = disk;
    this.isJoining = isJoining;
    this.isAutomatic = isAutomatic;
    this.skew = skew;
    this.isShared = isShared;
    this.isPartial = isPartial;
    this.clock = clock;
    this.way = way;
    this.draw = draw;
  }

  /** Starts the app. */
  async open(): Promise<void> {
    const process = new SimulatedProcess(this.clock, this.draw, `device ${this.index}`, this.skew);
    process.isConnected = this.isConnected;
    this.process = process;
    const never = { open: false, change: false, online: false, visible: false, timer: false };
    const upload = this.isJoining ? 'latest state' : 'every step';
    this.replica = await openReplica({
      schema: schemaOf(this.version),
      ...(this.version === 2 && { migrations }),
      ...(this.isPartial && { only: always(this.version) }),
      driver: (this.disk as Disk).open(process),
      host: process,
      server: this.transport(process),
      sync: this.isAutomatic
        ? { upload, minDelay: 50, maxDelay: 2_000, interval: 5_000, requestBytes: 900 }
        : { upload, when: never, live: false, requestBytes: 900 },
    });
    this.follow();
  }

  /** Follows what only the server has, as the screen of an app does. */
  protected follow(): void {
    if (!this.isPartial || !this.isAutomatic) return;
    this.plants = followedPlants(this.replica);
    // It fails where its process is killed.
    this.plants.subscribe(
      () => undefined,
      () => undefined,
    );
  }

  /** Ends the app's process, wherever it is. */
  async kill(): Promise<void> {
    this.process.isDead = true;
    this.disk.killAfter = Number.POSITIVE_INFINITY;
    this.disk.rollback();
    for (const channel of this.channels.get(this.process) ?? []) channel.close();
    this.channels.delete(this.process);
  }

  /** Goes on with the other process that has the file open; the one that was used stays open. */
  async switch(): Promise<void> {
    const { process, replica, plants, other } = this;
    this.other = { process, replica, plants };
    if (other !== undefined) Object.assign(this, other);
    if (other === undefined || other.process.isDead) {
      // It is not killed while it opens.
      this.disk.killAfter = Number.POSITIVE_INFINITY;
      if (other !== undefined) await this.kill();
      await this.open();
    }
  }

  /** Ends all processes of the device. */
  async end(): Promise<void> {
    await this.kill();
    if (this.other === undefined) return;
    Object.assign(this, this.other);
    this.other = undefined;
    await this.kill();
  }

  /** Starts the next version of the app, on the file as it is. */
  async update(): Promise<void> {
    if (this.version === 2) return;
    await this.end();
    this.version = 2;
    this.disk.isGrown = true;
    await this.open();
  }

  connect(isConnected: boolean): void {
    this.isConnected = isConnected;
    this.process.connect(isConnected);
    this.other?.process.connect(isConnected);
  }

  private transport(process: SimulatedProcess): Transport {
    const wait = () => new Promise<void>((done) => process.after(this.way.latency(), done));
    const lost = () => new KoinonError('server-unreachable', 'The network is gone.');
    const through = async <T>(call: (connection: InProcessConnection) => Promise<T>): Promise<T> => {
      const fate = this.fates.shift() ?? 'passes';
      await wait();
      if (!this.isConnected || fate === 'lost request') throw lost();
      const connection = this.way.connect();
      if (fate === 'sent twice') await this.clock.during(call(connection));
      if (fate === 'late copy')
        this.clock.after(700, () => void this.clock.during(call(this.way.connect())).catch(() => undefined));
      const answer = await this.clock.during(call(connection));
      await wait();
      if (!this.isConnected || fate === 'lost reply') throw lost();
      return answer;
    };
    return {
      pull: (request) => through((connection) => connection.pull(request)),
      push: (body) => through((connection) => connection.push(body)),
      applied: (request) => through((connection) => connection.applied(request)),
      query: (request) => through((connection) => connection.query(request)),
      live: (listener) => {
        let isOver = false;
        let arrivesAt = 0;
        const end = () => {
          if (isOver) return;
          isOver = true;
          channel?.close();
          if (!process.isDead) listener.closed();
        };
        let channel: ReturnType<InProcessConnection['live']> | undefined;
        process.after(this.way.latency(), () => {
          if (isOver) return;
          if (!this.isConnected) {
            end();
            return;
          }
          const opened = this.way.connect().live({
            open: () => !isOver && !process.isDead && listener.open(),
            message: (message) => {
              // A connection keeps the order of what it carries.
              arrivesAt = Math.max(arrivesAt, this.clock.now + this.way.latency());
              process.after(arrivesAt - this.clock.now, () => {
                if (isOver) return;
                if (!this.isConnected) end();
                else listener.message(message);
              });
            },
            closed: end,
          });
          channel = opened;
          this.channels.set(process, (this.channels.get(process) ?? new Set()).add(opened));
        });
        return {
          say: (request) => channel?.say(request),
          close: () => {
            isOver = true;
            channel?.close();
          },
        };
      },
    };
  }
}
