import { copyFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { openNodeDriver } from '@koinon/client';
import { type InProcessServer, type Store, serveInProcess, sqliteStore } from '@koinon/server';
import { folder } from './disk.ts';
import { strict } from './schema.ts';

type Driver = Awaited<ReturnType<typeof openNodeDriver>>;

let grounds = 0;

/** The server, its database, and the office that writes the same database. Many histories use one, one after the other. */
export class Ground {
  private readonly file: string;
  private store!: Store;
  server!: InProcessServer;
  office!: Driver;
  /** How many histories have used it. */
  used = 0;

  private constructor(file: string) {
    this.file = file;
  }

  static async make(): Promise<Ground> {
    const ground = new Ground(join(folder, `server-${process.pid}-${++grounds}.db`));
    await ground.open();
    return ground;
  }

  private async open(): Promise<void> {
    this.store = await sqliteStore(strict, this.file);
    this.server = serveInProcess({ store: this.store });
    this.office = await openNodeDriver({ file: this.file });
    this.office.exec('PRAGMA foreign_keys = on; PRAGMA synchronous = off');
  }

  private async shut(): Promise<void> {
    await this.server.close();
    this.office.close();
    await this.store.close();
  }

  /** What the office does to the database, which everybody who follows it hears of. */
  write(sql: string): void {
    this.office.exec(sql);
    this.server.wake();
  }

  rows(table: string): Record<string, unknown>[] {
    return this.office.prepare(`SELECT * FROM ${table} ORDER BY id`).all() as Record<string, unknown>[];
  }

  /** Keeps a copy of the database; returns where. */
  backup(): string {
    const file = `${this.file}.backup-${++grounds}`;
    this.office.prepare('VACUUM INTO ?').run(file);
    return file;
  }

  /** Puts a copy in the place of the database, as after a disaster. */
  async restore(file: string): Promise<void> {
    await this.shut();
    for (const end of ['', '-wal', '-shm']) rmSync(`${this.file}${end}`, { force: true });
    copyFileSync(file, this.file);
    await this.open();
  }

  /** Takes all rows away, for the next history. */
  clear(): void {
    this.office.exec('DELETE FROM visit; DELETE FROM tool; DELETE FROM hive; DELETE FROM site');
  }

  async end(): Promise<void> {
    await this.shut();
    for (const end of ['', '-wal', '-shm']) rmSync(`${this.file}${end}`, { force: true });
  }
}
