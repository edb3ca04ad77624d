import { alterPostgres, type InProcessConnection, postgresStore, type RunningServer } from '@koinon/server';
import pg from 'pg';
import { everything, type Ground, onNetwork, Servers } from './ground.ts';
import { hiding, newerHiding, newerStrict, renaming, strict } from './schema.ts';

let databases = 0;

/** A server over a database of its own on a PostgreSQL server. */
export class PostgresGround implements Ground {
  used = 0;
  version: 1 | 2 = 1;
  private readonly address: string;
  private readonly office: pg.Client;
  private readonly drop: () => Promise<void>;
  private servers!: Servers;
  private running!: RunningServer;

  private constructor(address: string, office: pg.Client, drop: () => Promise<void>) {
    this.address = address;
    this.office = office;
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
    const office = new pg.Client({
      connectionString: url.href,
      types: {
        getTypeParser: (oid: number, format?: 'text' | 'binary') =>
          oid === pg.types.builtins.INT8 ? Number : pg.types.getTypeParser(oid, format as 'text'),
      },
    });
    await office.connect();
    const drop = () => run(`DROP DATABASE IF EXISTS ${name} WITH (FORCE)`);
    const ground = new PostgresGround(url.href, office, drop);
    await ground.open();
    return ground;
  }

  private async open(): Promise<void> {
    const scopes = this.version === 1 ? hiding : newerHiding;
    const store = await postgresStore(this.version === 1 ? strict : newerStrict, this.address);
    this.servers = new Servers(store, scopes);
    this.running = await onNetwork(store, scopes);
  }

  private async shut(): Promise<void> {
    await this.servers.close();
    await this.running.close();
  }

  async grow(): Promise<void> {
    if (this.version === 2) return;
    await this.shut();
    await alterPostgres(newerStrict, this.address, renaming);
    this.version = 2;
    await this.open();
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
  backup = () => '';
  restore = async () => undefined;
  clear = async () => void (await this.office.query(everything));

  async end(): Promise<void> {
    await this.shut();
    await this.office.end();
    await this.drop();
  }
}
