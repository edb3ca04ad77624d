import { type InProcessConnection, postgresStore, type RunningServer, startServer } from '@koinon/server';
import pg from 'pg';
import { authenticate, everything, type Ground, Servers } from './ground.ts';
import { hiding, strict } from './schema.ts';

let databases = 0;

/** A server over a database of its own on a PostgreSQL server. */
export class PostgresGround implements Ground {
  used = 0;
  // The next version comes on SQLite alone, like backups.
  readonly version = 1;
  private readonly office: pg.Client;
  private readonly servers: Servers;
  private readonly running: RunningServer;
  private readonly drop: () => Promise<void>;

  private constructor(office: pg.Client, servers: Servers, running: RunningServer, drop: () => Promise<void>) {
    this.office = office;
    this.servers = servers;
    this.running = running;
    this.drop = drop;
  }

  /** @param address of the PostgreSQL server, whose user may create databases. */
  static async make(address: string): Promise<PostgresGround> {
    const name = `koinon_simulation_${process.pid}_${++databases}`;
    const run = async (sql: string) => {
      const client = new pg.Client({ connectionString: address });
      await client.connect();
      await client.query(sql);
      await client.end();
    };
    await run(`CREATE DATABASE ${name}`);
    const url = new URL(address);
    url.pathname = `/${name}`;
    const store = await postgresStore(strict, url.href);
    const running = await startServer({
      store,
      port: 0,
      requestsPerMinute: 1_000_000,
      replicasPerUser: 1_000_000,
      authenticate,
      scopes: hiding,
    });
    const office = new pg.Client({
      connectionString: url.href,
      types: {
        getTypeParser: (oid: number, format?: 'text' | 'binary') =>
          oid === pg.types.builtins.INT8 ? Number : pg.types.getTypeParser(oid, format as 'text'),
      },
    });
    await office.connect();
    const drop = () => run(`DROP DATABASE IF EXISTS ${name} WITH (FORCE)`);
    return new PostgresGround(office, new Servers(store), running, drop);
  }

  connect = (user?: string): InProcessConnection => this.servers.connect(user);
  url = () => this.running.url;

  async write(sql: string): Promise<void> {
    await this.office.query(
      sql
        .replace("json_set(coalesce(card, '{}'), '$.office', ", "jsonb_set(coalesce(card::jsonb, '{}'), '{office}', '")
        .replace(/(\{office\}', '\d+)\)/, "$1')"),
    );
    this.servers.wake();
  }

  rows = async (table: string) => (await this.office.query(`SELECT * FROM ${table} ORDER BY id`)).rows;

  // A database can only be copied while nobody has it open: that histories do on SQLite alone.
  grow = async () => undefined;
  backup = () => '';
  restore = async () => undefined;
  clear = async () => void (await this.office.query(everything));

  async end(): Promise<void> {
    await this.servers.close();
    await this.running.close();
    await this.office.end();
    await this.drop();
  }
}
