import { type ChildProcess, fork } from 'node:child_process';
import { copyFileSync, rmSync } from 'node:fs';
import { connect, createServer, type Server, type Socket } from 'node:net';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { connectReplica, openNodeDriver, openReplica } from '@koinon/client';
import { Clock } from './clock.ts';
import { Device } from './device.ts';
import { folder, type Storage } from './disk.ts';
import type { Ground } from './ground.ts';
import type { Parts } from './parts.ts';
import { register, schemaOf } from './schema.ts';

type Driver = Awaited<ReturnType<typeof openNodeDriver>>;

let files = 0;

/** The time of this machine; what a person waits is cut short. */
class RealClock extends Clock {
  override after(milliseconds: number, callback: () => void): () => void {
    const timer = setTimeout(callback, milliseconds / 10);
    return () => clearTimeout(timer);
  }

  override async during<T>(call: Promise<T>): Promise<T> {
    return call;
  }

  override async pass(milliseconds: number): Promise<void> {
    await sleep(Math.min(milliseconds / 10, 300));
  }

  override async until<T>(promise: Promise<T>, isAbandoned: () => boolean): Promise<T | undefined> {
    const end = Date.now() + 60_000;
    let isOver = false;
    const over = () => {
      isOver = true;
    };
    promise.then(over, over);
    while (!isOver) {
      if (isAbandoned()) {
        promise.catch(() => undefined);
        return undefined;
      }
      if (Date.now() > end) throw new Error('nothing comes to an end: something waits for ever');
      await sleep(1);
    }
    return promise;
  }
}

/** A real file, which the process of a device has open. */
class RealFile implements Storage {
  isGrown = false;
  readonly file: string;
  raw: Driver;
  onKill: () => void = () => undefined;
  private timer: NodeJS.Timeout | undefined;

  constructor(file: string, raw: Driver) {
    this.file = file;
    this.raw = raw;
  }

  static async make(): Promise<RealFile> {
    const file = join(folder, `device-${process.pid}-${++files}.db`);
    await (await openReplica({ schema: register, file })).close();
    return new RealFile(file, await openNodeDriver({ file }));
  }

  /** Nothing tells how many commits a process has made: it is killed after so many milliseconds. */
  set killAfter(commits: number) {
    clearTimeout(this.timer);
    if (Number.isFinite(commits)) this.timer = setTimeout(() => this.onKill(), commits * 2);
  }

  look<T>(work: () => T): T {
    this.raw.exec('BEGIN');
    try {
      return work();
    } finally {
      this.raw.exec('COMMIT');
    }
  }

  rollback(): void {}

  keep(): string {
    const copy = join(folder, `copy-${process.pid}-${++files}.db`);
    this.raw.prepare('VACUUM INTO ?').run(copy);
    return copy;
  }

  async putBack(copy: string): Promise<void> {
    this.raw.close();
    this.remove();
    copyFileSync(copy, this.file);
    this.raw = await openNodeDriver({ file: this.file });
  }

  async release(): Promise<void> {
    clearTimeout(this.timer);
    this.raw.close();
    this.remove();
  }

  private remove(): void {
    for (const end of ['', '-wal', '-shm']) rmSync(`${this.file}${end}`, { force: true });
  }
}

/** A device that is a process of its own, on a real file, behind a proxy that loses requests and replies. */
class ProcessDevice extends Device {
  private readonly children = new WeakMap<object, ChildProcess>();
  private proxy: { readonly server: Server; readonly url: string; cut(): void } | undefined;
  private readonly serverUrl: () => string;

  constructor(ground: Ground, ...given: ConstructorParameters<typeof Device>) {
    super(...given);
    this.serverUrl = () => ground.url();
    (this.disk as RealFile).onKill = () => void this.kill();
  }

  override async open(): Promise<void> {
    this.proxy ??= await this.listen();
    const { file } = this.disk as RealFile;
    const given = [
      file,
      this.proxy.url,
      this.isJoining ? 'latest state' : 'every step',
      this.isAutomatic ? 'automatic' : 'by hand',
      this.way.user ?? 'nobody',
      String(this.version),
      this.isPartial ? 'some hives' : 'all hives',
    ];
    const child = fork(new URL('./device-child.js', import.meta.url), given, { serialization: 'advanced' });
    const life = {
      isDead: false,
      isConnected: this.isConnected,
      connect: (isConnected: boolean) => {
        if (!isConnected) this.proxy?.cut();
      },
      toString: () => `device ${this.index}`,
    };
    child.on('exit', () => {
      life.isDead = true;
    });
    this.process = life;
    this.children.set(life, child);
    const opening = connectReplica(
      {
        postMessage: (message) => child.connected && child.send(message as object, () => undefined),
        on: (event, listener) => child.on(event === 'close' ? 'disconnect' : event, listener),
      },
      schemaOf(this.version),
    );
    // Killed while it opens, it is started again.
    const opened = await opening.catch((error) => (life.isDead ? undefined : Promise.reject(error)));
    if (opened === undefined) await this.open();
    else {
      this.replica = opened;
      this.follow();
    }
  }

  override async kill(): Promise<void> {
    const child = this.process && this.children.get(this.process);
    if (this.process) this.process.isDead = true;
    if (child === undefined || child.exitCode !== null || child.signalCode !== null) return;
    const gone = new Promise((done) => child.on('exit', done));
    child.kill('SIGKILL');
    await gone;
  }

  override async end(): Promise<void> {
    await super.end();
    this.proxy?.cut();
    this.proxy?.server.close();
    this.proxy = undefined;
  }

  /** Loses what the history says: the request before it is passed on, or the reply after it has come. */
  private async listen() {
    const sockets = new Set<Socket>();
    const server = createServer((socket) => {
      const { hostname, port } = new URL(this.serverUrl());
      const onward = connect(Number(port), hostname);
      let losesReply = false;
      const end = () => {
        sockets.delete(socket);
        socket.destroy();
        onward.destroy();
      };
      sockets.add(socket);
      for (const each of [socket, onward]) {
        each.on('error', end);
        each.on('close', end);
      }
      if (!this.isConnected) end();
      socket.on('data', (data) => {
        const fate = data.subarray(0, 4).toString() === 'POST' ? (this.fates.shift() ?? 'passes') : 'passes';
        if (!this.isConnected || fate === 'lost request') end();
        else onward.write(data);
        losesReply = fate === 'lost reply';
      });
      onward.on('data', (data) => {
        if (!this.isConnected || losesReply) end();
        else socket.write(data);
      });
    });
    await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
    const { port } = server.address() as { port: number };
    return {
      server,
      url: `http://127.0.0.1:${port}`,
      cut: () => {
        for (const socket of sockets) socket.destroy();
      },
    };
  }
}

/** Real processes that are killed, real files, and a network that loses. */
export const realParts: Parts = {
  clock: () => new RealClock(Date.now()),
  disk: () => RealFile.make(),
  device: (index, disk, settings, clock, way, owner, draw, ground) =>
    new ProcessDevice(ground, index, disk, settings, clock, way, owner, draw),
};
