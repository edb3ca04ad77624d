import { randomUUID } from 'node:crypto';
import type { Position } from '@koinon/core';
import { quoteText } from '@koinon/core/internal';
import pg from 'pg';
import type { Standby, StandbyRead } from '../standby.ts';
import type { StoreReader } from '../store.ts';
import { openPool } from './connections.ts';
import type { PostgresReader } from './reader.ts';
import { readPosition, Snapshot } from './snapshot.ts';

/** How old what a standby shows may be, in milliseconds. */
const mostBehind = 3_000;

/** Milliseconds between two marks, while the standby is asked. */
const markEvery = 1_000;

/** Milliseconds for which a standby with a fault is left alone. */
const restAfterFault = 5_000;

/** Milliseconds for which an answer of the standby, or a connection to it, is waited for. */
const waits = { answer: 10_000, connection: 3_000 };

/** How often a moment is looked for at which it is clear which transactions a snapshot sees. */
const mostLooks = 5;

/** Transactions that may have begun since the oldest that is still running. */
const mostOpen = 20_000;

/** Marks of processes that have ended are dropped after a day. */
const keepMarks = 86_400_000;

/** The parts that a standby works with. */
interface StandbyParts {
  readonly url: string;
  readonly connections: number;
  /** Connections to the database that it follows. */
  readonly primary: pg.Pool;
  /** Reads of a connection, in a snapshot that is known where it is given. */
  readonly readerOf: (client: pg.PoolClient, snapshot?: Snapshot) => PostgresReader;
  readonly readPrimary: <T>(work: (reader: StoreReader) => Promise<T>) => Promise<T>;
}

/** The transactions that are running, as one look at the standby shows them. */
interface Look {
  readonly xmin: string;
  readonly xmax: string;
  /** Null where there are too many to be looked at. */
  readonly running: readonly string[] | null;
}

/**
 * A streaming standby. It is used for a request only where three things are proved: it shows a mark that this process has written into the
 * primary a short time ago; its snapshot sees all that the request's cursor knows; and the primary says the same of the user and the replica,
 * in a snapshot that sees all that the standby's does.
 */
export class PostgresStandby implements Standby {
  onChange: ((fault: string | undefined) => void) | undefined;
  private readonly parts: StandbyParts;
  private readonly pool: pg.Pool;
  private readonly markName = `standby mark ${randomUUID()}`;
  /** Marks that were written a short time ago, with the time before they were. */
  private marks: readonly { readonly text: string; readonly at: number }[] = [];
  /** Since when marks have been written without a break. */
  private markedSince = Number.NEGATIVE_INFINITY;
  private marking: Promise<void> | undefined;
  private fault: string | undefined;
  private restsUntil = Number.NEGATIVE_INFINITY;
  private isClosed = false;

  constructor(parts: StandbyParts) {
    this.parts = parts;
    this.pool = openPool(parts.url, parts.connections, waits);
  }

  async read<Facts, Result>(reading: StandbyRead<Facts, Result>): Promise<Result | undefined> {
    if (this.isClosed || performance.now() < this.restsUntil) return undefined;
    this.mark();
    if (this.recentMarks().length === 0) return undefined;
    let client: pg.PoolClient | undefined;
    let [isBegun, isDone] = [false, false];
    try {
      client = await this.pool.connect();
      client.on('error', ignore);
      const snapshot = await this.begin(client);
      isBegun = true;
      const result = snapshot && (await this.readIn(client, snapshot, reading));
      await client.query('COMMIT');
      isDone = true;
      return result;
    } catch (error) {
      // The primary is asked instead: it refuses the same, or knows better.
      const fault = faultOf(error, isBegun);
      if (fault !== undefined) this.found(fault);
      return undefined;
    } finally {
      client?.off('error', ignore);
      client?.release(!isDone);
    }
  }

  private async readIn<Facts, Result>(
    client: pg.PoolClient,
    snapshot: Snapshot,
    { passed, facts, isSame, read }: StandbyRead<Facts, Result>,
  ): Promise<Result | undefined> {
    if (!passed.every((position) => hasPassed(snapshot, position))) return undefined;
    const reader = this.parts.readerOf(client, snapshot);
    const here = await facts(reader);
    const there = await this.onPrimary(snapshot, facts);
    if (there === undefined || !isSame(here, there)) return undefined;
    return read(reader, here);
  }

  /**
   * Facts of the primary, in a snapshot that sees all that one of the standby does. A commit may be replayed before the primary itself shows it;
   * a cursor that knows more than the primary would be taken for one of a lost feed.
   */
  private async onPrimary<Facts>(
    snapshot: Snapshot,
    facts: (reader: StoreReader) => Promise<Facts>,
  ): Promise<Facts | undefined> {
    for (let looks = 0; looks < mostLooks; looks++) {
      const found = await this.parts
        .readPrimary(async (reader) =>
          readPosition(await reader.position())?.known.covers(snapshot) ? { facts: await facts(reader) } : undefined,
        )
        .catch((cause: unknown) => {
          throw new PrimaryError(undefined, { cause });
        });
      if (found !== undefined) return found.facts;
      await new Promise((done) => setTimeout(done, 2));
    }
    return undefined;
  }

  /** Begins a transaction; the transactions that its snapshot sees, where that is clear and the standby can be used. */
  private async begin(client: pg.PoolClient): Promise<Snapshot | undefined> {
    for (let looks = 0; looks < mostLooks; looks++) {
      if (looks > 0) await client.query('COMMIT');
      // Several statements in one message: as little as possible happens between the two looks. The driver's types know of one answer only.
      const answers = (await client.query(
        `BEGIN; SELECT ${lookSql}; COMMIT; BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY;
         SELECT ${lookSql}, pg_is_in_recovery() AS follows, (SELECT value FROM koinon.meta WHERE name = ${quoteText(this.markName)}) AS mark`,
      )) as unknown as readonly pg.QueryResult[];
      const before = answers[1]?.rows[0] as Look;
      const now = answers[4]?.rows[0] as Look & { readonly follows: boolean; readonly mark: string | null };
      if (!now.follows) {
        this.found(
          'The server that `readFrom` names is not a standby: it takes writes itself. It was promoted, or the address is another one’s.',
        );
        return undefined;
      }
      if (!this.recentMarks().includes(now.mark ?? '')) {
        await this.findWhyBehind(client);
        return undefined;
      }
      this.found(undefined);
      if (before.running === null || now.running === null) return undefined;
      const snapshot = seenBy(before, now);
      if (snapshot !== undefined) return snapshot;
    }
    return undefined;
  }

  /** The standby does not show a recent mark. */
  private async findWhyBehind(client: pg.PoolClient): Promise<void> {
    const sql = 'SELECT system_identifier::text AS system, current_database() AS name FROM pg_control_system()';
    const there = await this.parts.primary.query<{ system: string; name: string }>(sql).catch((cause: unknown) => {
      throw new PrimaryError(undefined, { cause });
    });
    const here = await client.query<{ system: string; name: string }>(sql);
    if (JSON.stringify(here.rows) !== JSON.stringify(there.rows)) this.found(otherDatabase);
    // It may take a while until the first mark after a rest is replayed.
    else if (performance.now() - this.markedSince > mostBehind)
      this.found(
        `The standby has not replayed what was written ${mostBehind / 1_000} seconds ago: its replay has stopped, or is slow.`,
      );
  }

  private recentMarks(): readonly string[] {
    const oldest = performance.now() - mostBehind;
    this.marks = this.marks.filter(({ at }) => at > oldest);
    return this.marks.map(({ text }) => text);
  }

  /** Sees to it that a recent mark is in the primary. Nobody waits for it. */
  private mark(): void {
    if (this.marking !== undefined || performance.now() - (this.marks.at(-1)?.at ?? -markEvery) < markEvery) return;
    this.marking = this.writeMark()
      .catch((error: Error) =>
        this.found(
          `The mark by which the standby is recognised cannot be written into the database: ${error.message}.`,
        ),
      )
      .finally(() => {
        this.marking = undefined;
      });
  }

  /** Writes something into the primary that only a standby which follows it can show. */
  private async writeMark(): Promise<void> {
    const { primary } = this.parts;
    const at = performance.now();
    const text = `${Date.now()} ${randomUUID()}`;
    const isFirst = this.recentMarks().length === 0;
    if (isFirst) await primary.query(dropOldMarks, [Date.now() - keepMarks]);
    await primary.query(saveMark, [this.markName, text]);
    if (isFirst) this.markedSince = at;
    this.marks = [...this.marks, { text, at }];
  }

  private found(fault: string | undefined): void {
    if (fault !== undefined) this.restsUntil = performance.now() + restAfterFault;
    if (this.fault === fault) return;
    this.fault = fault;
    this.onChange?.(fault);
  }

  async close(): Promise<void> {
    this.isClosed = true;
    await this.marking;
    if (this.markedSince > Number.NEGATIVE_INFINITY)
      await this.parts.primary.query('DELETE FROM koinon.meta WHERE name = $1', [this.markName]).catch(() => undefined);
    await this.pool.end();
  }
}

const ignore = () => undefined;

const saveMark = 'INSERT INTO koinon.meta VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET value = excluded.value';

const dropOldMarks =
  "DELETE FROM koinon.meta WHERE name LIKE 'standby mark %' AND split_part(value, ' ', 1)::bigint < $1";

/** A snapshot that is taken on a standby does not list the transactions that are running: each is asked for. */
const lookSql = (() => {
  const [xmin, xmax] = ['xmin', 'xmax'].map((end) => `pg_snapshot_${end}(pg_current_snapshot())::text::bigint`);
  return `${xmin}::text AS xmin, ${xmax}::text AS xmax, CASE WHEN ${xmax} - ${xmin} <= ${mostOpen}
    THEN ARRAY(SELECT id::text FROM generate_series(${xmin}, ${xmax} - 1) id WHERE pg_xact_status(id::text::xid8) = 'in progress') END AS running`;
})();

/**
 * The snapshot of the second look. It was taken between the two: what was over at the first is seen, what is running at the second is not.
 * Undefined where a transaction ended between them: nobody can tell.
 */
export function seenBy(before: Look, now: Look): Snapshot | undefined {
  const running = new Set(now.running);
  const wasRunning = new Set(before.running);
  for (let id = BigInt(now.xmin); id < BigInt(now.xmax); id++) {
    if (running.has(String(id))) continue;
    if (id >= BigInt(before.xmax) || wasRunning.has(String(id))) return undefined;
  }
  return Snapshot.parse(`${now.xmin}:${now.xmax}:${[...running].join()}`);
}

function hasPassed(snapshot: Snapshot, position: Position): boolean {
  const { known, within } = readPosition(position) ?? {};
  return snapshot.covers(known) && (within === undefined || snapshot.sees(within.position));
}

const otherDatabase = 'The server that `readFrom` names is a standby of another database.';

/** The primary could not be asked: it says so itself to whoever asks it next. */
class PrimaryError extends Error {}

/** The tables of Koinon are not there: it is not the database of this server. */
const missing = ['42P01', '3F000'];

/** Replay takes away what a query on a standby would still need: it is cancelled. */
const conflict = '40001';

/**
 * The fault of a standby that an error shows; undefined for one of the primary, of the request, or of a scope that the app gives. A connection that is cut
 * later on shows when the next one is made.
 *
 * @param isBegun whether the request itself was being read.
 */
function faultOf(error: unknown, isBegun: boolean): string | undefined {
  if (error instanceof PrimaryError || (isBegun && !(error instanceof pg.DatabaseError))) return undefined;
  const { code = '', message } = error as { readonly code?: string; readonly message: string };
  if (code === conflict) return undefined;
  if (!isBegun && missing.includes(code)) return otherDatabase;
  return `The standby cannot be read: ${message}.`;
}
