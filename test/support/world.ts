import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { type Host, httpTransport, openReplica, type Replica, type Transport, type Upload } from '@koinon/client';
import { boolean, counter, integer, oneOf, reference, type Schema, schema, setOfText, table, text } from '@koinon/core';
import { type RunningServer, type ServerOptions, type Store, startServer } from '@koinon/server';
import { onTestFinished } from 'vitest';
import { type Database, newDatabase, type Shell, type StoreKind } from './stores.ts';

/** A small schema that has what the histories need. */
export const garden = schema({
  bed: table({ name: text({ unique: true }), sunny: boolean({ default: true }) }, { deletion: 'ask' }),
  plant: table(
    {
      bed: reference('bed'),
      kind: oneOf(['herb', 'flower', 'tree']),
      label: text({ optional: true }),
      height: integer({ optional: true, minimum: 0 }),
      watered: counter(),
      tags: setOfText(),
    },
    { deletion: 'ask' },
  ),
});

export type Garden = typeof garden;

/** A replica syncs by hand only. */
export const never = { open: false, change: false, online: false, visible: false, timer: false };

/** A server on a real database, replicas on real files, and other programs that write the server's database. */
export class World<S extends Schema = Garden> {
  readonly folder: string;
  readonly schema: S;
  readonly database: Database;
  server: RunningServer;
  /** The store that the server works on. */
  store: Store;
  private readonly closing: (() => Promise<void> | void)[] = [];
  private readonly shells: Shell[] = [];
  private readonly options: Partial<ServerOptions<S>>;
  private count = 0;

  private constructor(
    folder: string,
    schema: S,
    database: Database,
    store: Store,
    server: RunningServer,
    options: Partial<ServerOptions<S>>,
  ) {
    this.options = options;
    this.folder = folder;
    this.schema = schema;
    this.database = database;
    this.store = store;
    this.server = server;
  }

  static async of<S extends Schema>(
    schema: S,
    kind: StoreKind | Database = 'SQLite',
    given: Partial<ServerOptions<S>> = {},
    before: (shell: Shell) => Promise<void> = async () => undefined,
  ): Promise<World<S>> {
    const folder = await mkdtemp(join(tmpdir(), 'koinon-test-'));
    const database = typeof kind === 'string' ? await newDatabase(kind, folder) : kind;
    const shell = await database.shell();
    await before(shell);
    await shell.close();
    const store = await database.open(schema);
    // All devices of a test ask from one address.
    const options = { requestsPerMinute: 1_000_000, ...given };
    return new World(folder, schema, database, store, await startServer({ store, port: 0, ...options }), options);
  }

  /** A world of one test, which ends with it, however that ends. */
  static async inTest<S extends Schema>(...given: Parameters<typeof World.of<S>>): Promise<World<S>> {
    const world = await World.of<S>(...given);
    onTestFinished(() => world.end());
    return world;
  }

  path(name: string): string {
    return resolve(this.folder, name);
  }

  async replica(
    options: {
      readonly file?: string;
      readonly server?: string | Transport;
      readonly host?: Host;
      readonly upload?: Upload;
      readonly requestBytes?: number;
    } = {},
  ): Promise<Replica<S>> {
    const replica = await openReplica({
      schema: this.schema,
      file: this.path(options.file ?? `replica-${++this.count}.db`),
      server: options.server ?? this.server.url,
      ...(options.host && { host: options.host }),
      ...(options.upload && {
        sync: { upload: options.upload, requestBytes: options.requestBytes ?? 524_288, when: never, live: false },
      }),
    });
    this.closing.push(() => replica.close());
    return replica;
  }

  /** A replica that is closed when this ends. */
  async closed(opening: Promise<Replica<S>>): Promise<Replica<S>> {
    const replica = await opening;
    this.closing.push(() => replica.close());
    return replica;
  }

  /** Another program with the server's database open. */
  async shell(): Promise<Shell> {
    const shell = await this.database.shell();
    this.shells.push(shell);
    return shell;
  }

  /** Stops the server and starts it again on the same database, perhaps with another schema. */
  async restart(
    schema: Schema = this.schema,
    meanwhile: () => Promise<void> = async () => undefined,
    options: Partial<ServerOptions<S>> = {},
  ): Promise<void> {
    const port = Number(new URL(this.server.url).port);
    await this.server.close();
    await meanwhile();
    this.store = await this.database.open(schema);
    this.server = await startServer({ store: this.store, port, ...this.options, ...options });
  }

  /** Keeps a backup of the server's database; what is returned puts it in the place of what has become of it. */
  async backup(): Promise<() => Promise<void>> {
    let putBack: (() => Promise<void>) | undefined;
    // A copy of a PostgreSQL database is made while nobody has it open.
    await this.restart(this.schema, async () => {
      await this.closeShells();
      putBack = await this.database.backup();
    });
    return () =>
      this.restart(this.schema, async () => {
        await this.closeShells();
        await putBack?.();
      });
  }

  private async closeShells(): Promise<void> {
    for (const shell of this.shells.splice(0)) await shell.close();
  }

  /** A request such as programs make; the answer's lines parsed. */
  async request(path: string, body: unknown): Promise<{ status: number; type: string; lines: never[] }> {
    const response = await fetch(`${this.server.url}${path}`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: typeof body === 'string' ? body : JSON.stringify(body),
    });
    const lines = (await response.text()).split('\n').filter((line) => line !== '');
    return {
      status: response.status,
      type: response.headers.get('content-type') ?? '',
      lines: lines.map((line) => JSON.parse(line)) as never[],
    };
  }

  async end(): Promise<void> {
    for (const close of this.closing.reverse()) await close();
    await this.closeShells();
    await this.server.close();
    await this.database.drop();
    await rm(this.folder, { recursive: true, force: true });
  }
}

/** A network that loses, repeats and holds back: what passes is decided call by call. */
export class BadNetwork implements Transport {
  private readonly good: Transport;
  /** The fate of the next calls, first to last; when none are left everything passes. */
  readonly fates: ('answered' | 'lost request' | 'lost reply' | 'sent twice')[] = [];
  /** Every push body that reached the server. */
  readonly bodies: string[] = [];
  /** How many rows came with each pull, and what was asked for. */
  readonly pulls: number[] = [];
  readonly asked: unknown[] = [];

  constructor(url: string) {
    // A machine that is busy may take longer over a large transaction than a device waits.
    this.good = httpTransport(url, { timeout: 240_000 });
  }

  pull: Transport['pull'] = async (request, signal) => {
    this.asked.push(request);
    const page = await this.through(() => this.good.pull(request, signal));
    this.pulls.push(page.header.rows);
    return page;
  };

  push: Transport['push'] = (body, signal) =>
    this.through(async () => {
      this.bodies.push(body);
      return this.good.push(body, signal);
    });

  private async through<T>(call: () => Promise<T>): Promise<T> {
    const fate = this.fates.shift();
    if (fate === 'lost request') throw new Error('the request was lost');
    if (fate === 'sent twice') await call();
    const answer = await call();
    if (fate === 'lost reply') throw new Error('the reply was lost');
    return answer;
  }
}

/** All rows of a replica or of the server's database, by table and id, whatever the order. */
export async function rowsOf(source: Replica<Garden> | Shell): Promise<Record<string, unknown>> {
  const rows: Record<string, unknown> = {};
  for (const name of ['bed', 'plant'] as const) {
    const found =
      'all' in source
        ? await source.all(`SELECT * FROM ${name}`)
        : ((await source.rows({ from: name })) as unknown as Record<string, unknown>[]);
    for (const row of found)
      rows[`${name} ${row.id}`] = Object.fromEntries(Object.entries(row).map(([key, value]) => [key, plain(value)]));
  }
  return rows;
}

const plain = (value: unknown) =>
  typeof value === 'boolean' ? Number(value) : Array.isArray(value) ? JSON.stringify(value) : value;

/** Another program with a garden open, in which there are two beds now, and two plants in the first. */
export async function plantedBy(world: World): Promise<Shell> {
  const office = await world.shell();
  await office.exec("INSERT INTO bed VALUES ('b', 'north', true), ('c', 'south', true)");
  await office.exec(
    "INSERT INTO plant VALUES ('A', 'b', 'herb', 'sage', 1, 0, '[]'), ('B', 'b', 'herb', 'mint', 2, 0, '[]')",
  );
  return office;
}
