import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { httpTransport, openReplica, type Replica, type Transport } from '@koinon/client';
import type { Schema } from '@koinon/core';
import {
  type Handlers,
  type Mapping,
  postgresStore,
  type RunningServer,
  sqliteStore,
  startServer,
} from '@koinon/server';
import { onTestFinished } from 'vitest';
import { type Database, newDatabase, type Shell, type StoreKind } from './stores.ts';
import { never } from './world.ts';

/** A schema, and the tables of the office's own that stand behind it. */
export interface OfficeTables<S extends Schema> {
  readonly schema: S;
  readonly mapping: Mapping;
  readonly sql?: Readonly<Record<StoreKind, string>>;
  readonly actions?: Handlers<S>;
}

async function serve<S extends Schema>(
  kind: StoreKind,
  { schema, mapping, actions }: OfficeTables<S>,
  database: Database,
  port: number,
): Promise<RunningServer> {
  const open = kind === 'SQLite' ? sqliteStore : postgresStore;
  return startServer({ store: await open(schema, database.address, { mapping }), port, ...(actions && { actions }) });
}

/** An office with its tables, a server on them, and devices. */
export class Office<S extends Schema> {
  readonly folder: string;
  readonly database: Database;
  shell: Shell;
  server: RunningServer;
  /** Answers of the server that do not reach the devices: uploads that were taken up nevertheless. */
  lost = 0;
  private readonly kind: StoreKind;
  private readonly tables: OfficeTables<S>;
  private readonly devices: Replica<S>[] = [];

  private constructor(
    kind: StoreKind,
    tables: OfficeTables<S>,
    folder: string,
    database: Database,
    shell: Shell,
    server: RunningServer,
  ) {
    this.kind = kind;
    this.tables = tables;
    this.folder = folder;
    this.database = database;
    this.shell = shell;
    this.server = server;
  }

  static async open<S extends Schema>(kind: StoreKind, tables: OfficeTables<S>): Promise<Office<S>> {
    const folder = await mkdtemp(join(tmpdir(), 'koinon-keys-'));
    const database = await newDatabase(kind, folder);
    const shell = await database.shell();
    if (tables.sql !== undefined) await shell.exec(tables.sql[kind]);
    return new Office(kind, tables, folder, database, shell, await serve(kind, tables, database, 0));
  }

  async device(file?: string, sync: object = { when: never, live: false, upload: 'every step' }): Promise<Replica<S>> {
    const { server } = this;
    const there = httpTransport(server.url);
    const losing: Transport = {
      ...there,
      push: async (...given) => {
        const answer = await there.push(...given);
        if (this.lost > 0 && this.lost--) throw new TypeError('the connection was cut');
        return answer;
      },
    };
    const made = await openReplica({
      schema: this.tables.schema,
      server: Object.keys(sync).length === 0 ? server.url : losing,
      ...(file ? { file: join(this.folder, file) } : {}),
      sync,
    });
    this.devices.push(made);
    return made;
  }

  async backup(): Promise<() => Promise<void>> {
    let putBack: (() => Promise<void>) | undefined;
    await this.restart(async () => {
      putBack = await this.database.backup();
    });
    return () => this.restart(async () => putBack?.());
  }

  private async restart(meanwhile: () => Promise<void>): Promise<void> {
    const port = Number(new URL(this.server.url).port);
    await this.server.close();
    await this.shell.close();
    await meanwhile();
    this.shell = await this.database.shell();
    this.server = await serve(this.kind, this.tables, this.database, port);
  }

  async end(): Promise<void> {
    for (const device of this.devices) await device.close();
    await this.server.close();
    await this.shell.close();
    await this.database.drop();
    await rm(this.folder, { recursive: true, force: true });
  }
}

/** An office that ends with the test. */
export async function officeInTest<S extends Schema>(kind: StoreKind, tables: OfficeTables<S>): Promise<Office<S>> {
  const office = await Office.open(kind, tables);
  onTestFinished(() => office.end());
  return office;
}
