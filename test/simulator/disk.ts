import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openNodeDriver, openReplica } from '@koinon/client';
import type { SimulatedProcess } from './clock.ts';
import { register } from './schema.ts';

type Driver = Awaited<ReturnType<typeof openNodeDriver>>;

/** The folder where copies of simulated files are for as long as a process simulates. */
export const folder = mkdtempSync(join(tmpdir(), 'koinon-simulation-'));
process.on('exit', () => rmSync(folder, { recursive: true, force: true }));

let copies = 0;

/** A device's file, as the simulation uses it. */
export interface Storage {
  /** The file itself, for whoever looks into it. */
  readonly raw: Driver;
  /** Tells whether an app of the next version has had it. */
  isGrown: boolean;
  /** Commits until the process that has it open is killed. */
  killAfter: number;
  /** Looks into the file as it is at one moment. */
  look<T>(work: () => T): T;
  /** Everything that a killed process had not committed is gone. */
  rollback(): void;
  /** Keeps a copy of the file; returns where. */
  keep(): string;
  /** Puts the content of a kept copy in the place of this one's. No process has it open. */
  putBack(file: string): void | Promise<void>;
  /** Nobody uses it any more. */
  release(): void | Promise<void>;
}

/** A device's file. It outlives the processes that have it open; what was not committed when one was killed is gone. */
export class Disk implements Storage {
  readonly raw: Driver;
  isGrown = false;
  /** Commits until the process that has it open is killed; counted down. */
  killAfter = Number.POSITIVE_INFINITY;
  /** The process whose transaction is open. */
  private writer: SimulatedProcess | undefined;
  private commits = 0;

  private constructor(opened: Driver) {
    const statements = new Map<string, ReturnType<Driver['prepare']>>();
    // Each statement is compiled once for all histories: that would be most of what they cost.
    const prepare = (sql: string) => {
      const statement = statements.get(sql) ?? opened.prepare(sql);
      statements.set(sql, statement);
      return {
        run: (...values: Parameters<typeof statement.run>) => statement.run(...values),
        get: (...values: Parameters<typeof statement.get>) => statement.get(...values),
        all: (...values: Parameters<typeof statement.all>) => statement.all(...values),
        iterate: (...values: Parameters<typeof statement.iterate>) => statement.iterate(...values),
      };
    };
    this.raw = { storage: 'file', exec: (sql) => opened.exec(sql), prepare, close: () => undefined };
  }

  private static readonly free: Disk[] = [];

  /** An empty replica file. */
  static async empty(): Promise<Disk> {
    const known = Disk.free.pop();
    if (known) return known;
    const disk = new Disk(await openNodeDriver({ file: ':memory:' }));
    await (await openReplica({ schema: register, driver: disk.raw })).close();
    disk.wipe();
    return disk;
  }

  /** Gives the file back: it is empty for whoever takes it next. */
  release(): void {
    this.rollback();
    if (this.isGrown) return;
    this.wipe();
    this.killAfter = Number.POSITIVE_INFINITY;
    Disk.free.push(this);
  }

  /** The file as a process has it open. */
  open(process: SimulatedProcess): Driver {
    /** The commits of this process: it is told of the others' only. */
    let own = 0;
    const alive = () => {
      if (process.isDead) throw new Error('this process was killed');
      // Two processes share one connection here: what one has not committed is not for the other to see.
      if (this.writer !== undefined && this.writer !== process)
        throw Object.assign(new Error('database is locked'), { errcode: 5 });
    };
    return {
      storage: 'file',
      exec: (sql) => {
        alive();
        this.raw.exec(sql);
        if (sql === 'ROLLBACK') this.writer = undefined;
      },
      prepare: (sql) => {
        alive();
        const statement = this.raw.prepare(sql);
        const committed = () => {
          if (sql === 'BEGIN IMMEDIATE') this.writer = process;
          if (sql !== 'COMMIT') return;
          this.writer = undefined;
          own++;
          this.commits++;
          if (--this.killAfter > 0) return;
          this.killAfter = Number.POSITIVE_INFINITY;
          process.isDead = true;
        };
        return {
          run: (...values) => {
            alive();
            const result = statement.run(...values);
            committed();
            return result;
          },
          get: (...values) => {
            alive();
            if (sql === 'PRAGMA data_version') return { data_version: this.commits - own };
            return statement.get(...values);
          },
          all: (...values) => {
            alive();
            return statement.all(...values);
          },
          iterate: (...values) => {
            alive();
            return statement.iterate(...values);
          },
        };
      },
      close: () => undefined,
    };
  }

  /** Nobody else runs meanwhile. */
  look = <T>(work: () => T): T => work();

  /** Everything that a killed process had not committed is gone. */
  rollback(): void {
    if (this.writer?.isDead === false) return;
    this.writer = undefined;
    try {
      this.raw.exec('ROLLBACK');
    } catch {
      // Nothing was open.
    }
  }

  /** Keeps a copy of the file; returns where. */
  keep(): string {
    const file = join(folder, `copy-${process.pid}-${++copies}.db`);
    this.raw.prepare('VACUUM INTO ?').run(file);
    return file;
  }

  /** Puts the content of a kept copy in the place of this one's. */
  putBack(file: string): void {
    this.wipe(true);
    this.raw.prepare('ATTACH ? AS kept').run(file);
    if (this.isGrown) this.makeAsKept();
    for (const table of this.tables()) this.raw.exec(`INSERT INTO main."${table}" SELECT * FROM kept."${table}"`);
    this.raw.exec('DETACH kept');
  }

  /** Gives the file the tables of a kept one, which may be of another version. */
  private makeAsKept(): void {
    const made = (of: string) =>
      this.raw
        .prepare(`SELECT type, name, sql FROM ${of}.sqlite_schema WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite_%'`)
        .all() as { type: string; name: string; sql: string }[];
    for (const { type, name } of made('main')) this.raw.exec(`DROP ${type} IF EXISTS main."${name}"`);
    for (const { sql } of made('kept')) this.raw.exec(sql);
  }

  private tables(): string[] {
    const rows = this.raw.prepare("SELECT name FROM main.sqlite_schema WHERE type = 'table'").all();
    return (rows as { name: string }[]).map(({ name }) => name);
  }

  private wipe(isWhole = false): void {
    for (const table of this.tables())
      this.raw
        .prepare(`DELETE FROM main."${table}"${table === 'koinon_meta' && !isWhole ? " WHERE name <> 'schema'" : ''}`)
        .run();
  }
}
