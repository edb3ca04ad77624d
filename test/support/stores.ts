import { copyFile, rm } from 'node:fs/promises';
import { join } from 'node:path';
import { openNodeDriver } from '@koinon/client';
import type { Schema } from '@koinon/core';
import { type PostgresOptions, postgresStore, type Store, sqliteStore } from '@koinon/server';
import pg from 'pg';
import { inject } from 'vitest';
import type { Pair } from './standby.ts';

/** The kinds of database a server can keep its tables in. */
export const storeKinds = ['SQLite', 'PostgreSQL'] as const;
export type StoreKind = (typeof storeKinds)[number];

/** Another program with the server's database open. */
export interface Shell {
  exec(sql: string): Promise<void>;
  all<Row = Record<string, unknown>>(sql: string): Promise<Row[]>;
  close(): Promise<void>;
}

/** A database of a server, for one test. */
export interface Database {
  readonly kind: StoreKind;
  /** The address that the store is opened with: a file, or a URL. */
  readonly address: string;
  open(schema: Schema): Promise<Store>;
  shell(): Promise<Shell>;
  /** Keeps a copy of the database as it is now, and puts that in its place. No server may have it open then. */
  backup(): Promise<() => Promise<void>>;
  drop(): Promise<void>;
}

let databases = 0;

/** A new database, empty. */
export async function newDatabase(kind: StoreKind, folder: string, options: PostgresOptions = {}): Promise<Database> {
  if (kind === 'SQLite') return sqliteDatabase(join(folder, 'server.db'));
  return postgresDatabase(inject('postgresUrl'), () => options);
}

/** A new database of a pair of servers, whose store may read the standby. */
export function databaseOf({ primary, standby }: Pair): Promise<Database> {
  return postgresDatabase(primary, (name) => ({ readFrom: named(standby, name) }));
}

const named = (server: string, name: string) => Object.assign(new URL(server), { pathname: `/${name}` }).href;

async function postgresDatabase(server: string, options: (name: string) => PostgresOptions): Promise<Database> {
  const name = `koinon_test_${process.pid}_${++databases}`;
  const address = named(server, name);
  await inPostgres(server, `CREATE DATABASE ${name}`);
  const copies: string[] = [];
  const drop = (database: string) => inPostgres(server, `DROP DATABASE IF EXISTS ${database} WITH (FORCE)`);
  return {
    kind: 'PostgreSQL',
    address,
    open: (schema) => postgresStore(schema, address, options(name)),
    shell: () => postgresShell(address),
    async backup() {
      const copy = `${name}_backup_${++databases}`;
      await inPostgres(server, `CREATE DATABASE ${copy} TEMPLATE ${name}`);
      copies.push(copy);
      return async () => {
        await drop(name);
        await inPostgres(server, `CREATE DATABASE ${name} TEMPLATE ${copy}`);
      };
    },
    drop: async () => {
      for (const database of [name, ...copies]) await drop(database);
    },
  };
}

function sqliteDatabase(file: string): Database {
  const shell = async (): Promise<Shell> => {
    const driver = await openNodeDriver({ file });
    driver.exec('PRAGMA foreign_keys = on');
    return {
      exec: async (sql) => driver.exec(sql),
      all: async <Row>(sql: string) => driver.prepare(sql).all() as Row[],
      close: async () => driver.close(),
    };
  };
  return {
    kind: 'SQLite',
    address: file,
    open: (schema) => sqliteStore(schema, file),
    shell,
    async backup() {
      const copy = `${file}.backup`;
      await rm(copy, { force: true });
      const open = await shell();
      await open.exec(`VACUUM INTO '${copy}'`);
      await open.close();
      return async () => {
        for (const suffix of ['', '-wal', '-shm']) await rm(`${file}${suffix}`, { force: true });
        await copyFile(copy, file);
      };
    },
    drop: async () => undefined,
  };
}

/** A connection such as programs make; whole numbers come as numbers. */
export async function postgresShell(url: string): Promise<Shell> {
  const client = new pg.Client({
    connectionString: url,
    types: {
      getTypeParser: (oid: number, format?: 'text' | 'binary') =>
        oid === pg.types.builtins.INT8 ? Number : pg.types.getTypeParser(oid, format as 'text'),
    },
  });
  client.on('error', () => undefined);
  await client.connect();
  return {
    exec: async (sql) => void (await client.query(sql)),
    all: async <Row>(sql: string) => (await client.query(sql)).rows as Row[],
    close: () => client.end(),
  };
}

async function inPostgres(url: string, sql: string): Promise<void> {
  const shell = await postgresShell(url);
  await shell.exec(sql);
  await shell.close();
}
