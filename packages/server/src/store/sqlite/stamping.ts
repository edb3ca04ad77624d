import type { Prepared } from './driver.ts';
import { stampInserted, stampsNew } from './triggers.ts';

/** On whose behalf rows are written; nobody's for what no uploaded transaction made. */
interface Author {
  readonly receipt: string | null;
  readonly editedAt: number | null;
}

/** The content of the stamp of an inserted row. */
export type Stamped = readonly [id: string, position: number, editedAt: number, receipt: string | null];

/** The content of `koinon_writer`. */
interface Noted extends Author {
  readonly stamps: 1 | null;
}

/** Fewer stamps than this are written one by one: putting them into one text would cost more. */
const worthJoining = 4;

const nobody: Author = { receipt: null, editedAt: null };
const cleared: Noted = { ...nobody, stamps: null };

/**
 * The party that stamps what is written over one connection: the triggers, as for any program; or, for plain inserts into tables on
 * which no trigger but Koinon's can fire, the writer by itself. The triggers' look for what REPLACE may have taken away
 * costs an insert more than everything else; the server never replaces.
 *
 * The values that the triggers go by are noted only when one is about to fire. All of it is inside one database transaction.
 */
export class Stamping {
  private readonly database: Prepared;
  /** The tables that may be stamped without triggers as long as nobody adds one. */
  private readonly plain: ReadonlySet<string>;
  private author = nobody;
  private noted = cleared;
  /** The end of the feed while the writer stamps; else it stands in the database. */
  private position: number | undefined;
  private schemaVersion: number | undefined;
  /** Called where another program has changed tables or triggers. */
  onSchemaChange: (() => void) | undefined;
  private unhindered: ReadonlySet<string> = new Set();

  /** @param plain tables that Koinon made itself, under the schema's names. */
  constructor(database: Prepared, plain: ReadonlySet<string>) {
    this.database = database;
    this.plain = plain;
  }

  /** Begins a database transaction; one before it may have been taken back. */
  begin(): void {
    this.author = nobody;
    this.noted = cleared;
    this.position = undefined;
    // Within the transaction nobody else can add a trigger.
    const version = this.database.get<{ schema_version: number }>('PRAGMA schema_version')?.schema_version;
    if (version === this.schemaVersion) return;
    if (this.schemaVersion !== undefined) this.onSchemaChange?.();
    this.schemaVersion = version;
    const hindered = this.database.all<{ name: string }>(
      "SELECT DISTINCT tbl_name AS name FROM sqlite_schema WHERE type = 'trigger' AND name NOT LIKE 'koinon\\_%' ESCAPE '\\'",
    );
    const names = new Set(hindered.map(({ name }) => name.toLowerCase()));
    this.unhindered = new Set([...this.plain].filter((name) => !names.has(name.toLowerCase())));
  }

  /** From here on rows are written on behalf of this transaction. */
  writeAs(receipt: string | null, editedAt: number | null): Author {
    const before = this.author;
    this.author = { receipt, editedAt };
    return before;
  }

  /** Tells whether inserts into a table need no trigger. */
  canStamp(table: string): boolean {
    return this.unhindered.has(table);
  }

  /** Before an insert that the writer stamps by itself. */
  byItself(): void {
    if (this.position !== undefined) return;
    this.position = this.database.get<{ position: number }>('SELECT position FROM koinon_feed')?.position ?? 0;
    this.note({ ...this.noted, stamps: 1 });
  }

  /** The stamp of the next row that the writer inserts by itself. */
  stamp(id: string): Stamped {
    this.position = (this.position as number) + 1;
    const { receipt, editedAt } = this.author;
    return [id, this.position, editedAt ?? Date.now(), receipt];
  }

  /** Writes the stamp of an inserted row. */
  insertStamp(table: string, [id, position, editedAt, receipt]: Stamped): void {
    this.database.run(stampInserted, table, id, position, editedAt, receipt);
  }

  /** Writes stamps of inserted rows that have none. */
  insertStamps(table: string, stamps: readonly Stamped[]): void {
    if (stamps.length < worthJoining) for (const stamp of stamps) this.insertStamp(table, stamp);
    else this.database.run(stampsNew, table, JSON.stringify(stamps));
  }

  /** Before anything else that writes the app's tables, or looks for the end of the feed. */
  byTriggers(): void {
    this.flush();
    const { receipt, editedAt, stamps } = this.noted;
    if (stamps !== null || receipt !== this.author.receipt || editedAt !== this.author.editedAt)
      this.note({ ...this.author, stamps: null });
  }

  /** The end of the feed, while only the writer knows it. */
  get end(): number | undefined {
    return this.position;
  }

  /** Sets a savepoint. The last stamps, which nobody has written, come after it. */
  before(unwritten: number, setSavepoint: () => void): void {
    const { receipt, editedAt } = this.author;
    if (unwritten > 0) this.position = (this.position as number) - unwritten;
    this.settle();
    setSavepoint();
    this.writeAs(receipt, editedAt);
    if (unwritten === 0) return;
    this.byItself();
    this.position = (this.position as number) + unwritten;
  }

  /** Before the transaction ends, or a savepoint begins or is taken back: from there on `koinon_writer` is as it is empty. */
  settle(): void {
    this.author = nobody;
    this.byTriggers();
  }

  /** A savepoint was taken back that began when everything was settled. */
  takenBack(): void {
    this.author = nobody;
    this.noted = cleared;
    this.position = undefined;
  }

  private flush(): void {
    if (this.position === undefined) return;
    this.database.run('UPDATE koinon_feed SET position = ?', this.position);
    this.position = undefined;
  }

  private note(noted: Noted): void {
    this.database.run(
      'UPDATE koinon_writer SET receipt = ?, edited_at = ?, stamps = ?',
      noted.receipt,
      noted.editedAt,
      noted.stamps,
    );
    this.noted = noted;
  }
}
