import { copyFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { openNodeDriver } from '@koinon/client';
import {
  alterSqlite,
  type InProcessConnection,
  type InProcessServer,
  type RunningServer,
  type Store,
  serveInProcess,
  sqliteStore,
  startServer,
} from '@koinon/server';
import { folder } from './disk.ts';
import { handlers, hiding, newerHiding, newerStrict, renaming, strict } from './schema.ts';

type Driver = Awaited<ReturnType<typeof openNodeDriver>>;
type Rows = Record<string, unknown>[];

let grounds = 0;

/** The server and its database, and the office that writes the same database. Many histories use one, one after the other. */
export interface Ground {
  /** The version of its schema. */
  readonly version: 1 | 2;
  /** Comes to the next version: the office alters its tables, and the server is started anew. */
  grow(): Promise<void>;
  /** How many histories have used it. */
  used: number;
  /** The server in this process. */
  connect(user?: string): InProcessConnection;
  /** The address of the server, where it is reached over the network. */
  url(): string;
  /** The writes of the office to the database, which everybody who follows it hears of. */
  write(sql: string): void | Promise<void>;
  rows(table: string): Rows | Promise<Rows>;
  /** Keeps a copy of the database; returns where. */
  backup(): string | Promise<string>;
  /** Puts a copy in the place of the database, as after a disaster. */
  restore(file: string): Promise<void>;
  /** Takes all rows away, for the next history. */
  clear(): void | Promise<void>;
  end(): Promise<void>;
}

export const everything =
  'DELETE FROM visit; DELETE FROM tool; DELETE FROM hive; DELETE FROM site; DELETE FROM keeper; DELETE FROM plant';

/** Tokens are the names of their users. */
export const authenticate = (token: string | undefined) =>
  token === undefined ? undefined : { id: token, claims: {} };

/** The server over HTTP, for devices in processes of their own. */
export const onNetwork = (store: Store, scopes: typeof hiding) =>
  startServer({
    store,
    port: 0,
    requestsPerMinute: 1_000_000,
    replicasPerUser: 1_000_000,
    authenticate,
    scopes,
    actions: handlers,
  });

/** The server in this process: without users for some histories, with scopes for others. */
export class Servers {
  private readonly open: InProcessServer;
  private readonly scoped: InProcessServer;

  constructor(store: Store, scopes = hiding) {
    this.open = serveInProcess({ store, actions: handlers });
    this.scoped = serveInProcess({ store, scopes, actions: handlers });
  }

  connect(user?: string): InProcessConnection {
    return user === undefined ? this.open.connect() : this.scoped.connect({ id: user, claims: {} });
  }

  wake(): void {
    this.open.wake();
    this.scoped.wake();
  }

  async close(): Promise<void> {
    await this.open.close();
    await this.scoped.close();
  }
}

/** A server over an SQLite file. */
export class SqliteGround implements Ground {
  used = 0;
  version: 1 | 2 = 1;
  private readonly file: string;
  private readonly isOnNetwork: boolean;
  private store!: Store;
  private servers!: Servers;
  private running: RunningServer | undefined;
  private office!: Driver;
  private readonly reads = new Map<string, ReturnType<Driver['prepare']>>();

  private constructor(file: string, isOnNetwork: boolean) {
    this.file = file;
    this.isOnNetwork = isOnNetwork;
  }

  /** @param isOnNetwork whether it is reached over HTTP as well. */
  static async make(isOnNetwork = false): Promise<SqliteGround> {
    const ground = new SqliteGround(join(folder, `server-${process.pid}-${++grounds}.db`), isOnNetwork);
    await ground.open();
    return ground;
  }

  private async open(): Promise<void> {
    const scopes = this.version === 1 ? hiding : newerHiding;
    this.store = await sqliteStore(this.version === 1 ? strict : newerStrict, this.file);
    this.servers = new Servers(this.store, scopes);
    if (this.isOnNetwork) this.running = await onNetwork(this.store, scopes);
    this.office = await openNodeDriver({ file: this.file });
    this.office.exec('PRAGMA foreign_keys = on; PRAGMA synchronous = off');
  }

  private async shut(): Promise<void> {
    this.reads.clear();
    await this.servers.close();
    this.office.close();
    if (this.running) await this.running.close();
    else await this.store.close();
  }

  async grow(): Promise<void> {
    if (this.version === 2) return;
    await this.shut();
    await alterSqlite(newerStrict, this.file, renaming);
    this.version = 2;
    await this.open();
  }

  connect = (user?: string) => this.servers.connect(user);
  url = () => this.running?.url ?? '';

  write(sql: string): void {
    this.office.exec(sql);
    this.servers.wake();
  }

  rows(table: string): Rows {
    // Compiled once: it is asked after every step.
    const statement = this.reads.get(table) ?? this.office.prepare(`SELECT * FROM ${table} ORDER BY id`);
    this.reads.set(table, statement);
    return statement.all() as Rows;
  }

  backup(): string {
    const file = `${this.file}.backup-${++grounds}`;
    this.office.prepare('VACUUM INTO ?').run(file);
    return file;
  }

  async restore(file: string): Promise<void> {
    await this.shut();
    for (const end of ['', '-wal', '-shm']) rmSync(`${this.file}${end}`, { force: true });
    copyFileSync(file, this.file);
    // What was kept before the next version is brought to it again.
    if (this.version === 2) await alterSqlite(newerStrict, this.file, renaming).catch(() => undefined);
    await this.open();
  }

  clear = () => this.office.exec(everything);

  async end(): Promise<void> {
    await this.shut();
    for (const end of ['', '-wal', '-shm']) rmSync(`${this.file}${end}`, { force: true });
  }
}
