import {
  type Column,
  type JsonValue,
  KoinonError,
  type Schema,
  type Table,
  type TableName,
  tableOf,
} from '@koinon/core';
import { columnsFromWire, shown } from '@koinon/core/internal';
import { type CastingContext, parse } from '#csv-parse';
import { argumentInvalid, word } from '../engine/arguments.ts';
import type { Write } from '../engine/steps.ts';
import { DataApi } from '../replica/data-api.ts';
import type { Replica } from '../replica/replica.ts';
import { checkTransfer, type TransferFormat, type TransferProgress } from './options.ts';

/** Options of {@link importRows}. */
export interface ImportOptions<S extends Schema> {
  /** The table of a CSV file; for JSON Lines each line names its own. */
  readonly table?: TableName<S>;
  readonly format?: TransferFormat;
  /** The fate of a row whose id is there: `refuse` stops the import, `update` writes over it. Default `refuse`. */
  readonly existing?: 'refuse' | 'update';
  readonly signal?: AbortSignal;
  /** Called after each batch with the rows that are done. */
  readonly onProgress?: (progress: TransferProgress) => void;
}

/** The result of an import. */
export interface ImportReport {
  readonly rows: number;
}

interface NumberedRow {
  readonly line: number;
  readonly table: string;
  readonly columns: Readonly<Record<string, unknown>>;
}

interface CsvRecord {
  readonly record: Record<string, unknown>;
  readonly info: { readonly lines: number; readonly error?: Error };
}

/** Milliseconds one batch may keep others waiting; its size follows from how long the last one took. */
const batchTime = 8;

/** Fewest rows that are worth a transaction: its own cost, and that of telling live queries, must not outgrow the rows'. */
const leastBatch = 250;

/**
 * Writes rows from a text into a replica, in batches that are transactions of their own, so that an import of a million
 * rows leaves single reads and writes responsive. Rows come behind those they refer to, as an export writes them.
 *
 * @throws KoinonError `import-stopped`, naming the line and what is wrong with it; the rows before it are in. `cancelled`.
 * @example
 * await importRows(replica, schema, createReadStream('visits.csv'), { table: 'visit', format: 'csv' })
 */
export async function importRows<S extends Schema>(
  replica: Replica<S>,
  schema: S,
  source: AsyncIterable<string | Uint8Array> | Iterable<string | Uint8Array>,
  options: ImportOptions<S> = {},
): Promise<ImportReport> {
  const { format, table, signal, onProgress } = checkTransfer(replica, schema, options, ['existing']);
  const { existing = 'refuse' } = options;
  word('existing', existing, ['refuse', 'update']);
  if (!isIterable(source)) throw argumentInvalid('source', source, 'texts or bytes that can be iterated over');
  if (format === 'csv' && table === undefined)
    throw new KoinonError('query-invalid', 'CSV does not name its table; say which it is.');
  const read = format === 'csv' ? csvRows(schema, source, table as string) : jsonRows(schema, source);
  let rows = 0;
  let size = leastBatch;
  let batch: NumberedRow[] = [];

  const write = async (given: readonly NumberedRow[]) => {
    const name = given[0]?.table as TableName<S>;
    const columns = given.map((row) => row.columns);
    // As a batch, which does not hand the rows back.
    const write: Write = { name: existing === 'update' ? 'upsertAll' : 'insertAll', given: [name, columns] };
    await DataApi.executeStep(replica, 'batch', [[write]]);
    rows += given.length;
  };
  const flush = async () => {
    if (batch.length === 0) return;
    if (signal?.aborted) throw new KoinonError('cancelled', `The import was cancelled; the first ${rows} rows are in.`);
    const given = batch;
    batch = [];
    const start = performance.now();
    try {
      await write(given);
    } catch {
      // One row is at fault: go one by one up to it, so that the rows before it are in and its line is known.
      for (const row of given) await write([row]).catch((error) => Promise.reject(stopped(row.line, rows, error)));
    }
    size = Math.round(
      Math.min(5_000, Math.max(leastBatch, (size * batchTime) / Math.max(1, performance.now() - start))),
    );
    onProgress?.({ rows, of: null });
    // Others get their turn, and so do timers and the network.
    await new Promise((done) => setTimeout(done, 0));
  };
  try {
    for await (const row of read) {
      if (batch.length >= size || (batch[0] !== undefined && batch[0].table !== row.table)) await flush();
      batch.push(row);
    }
  } catch (error) {
    if (!(error instanceof UnreadableLine)) throw error;
    await flush();
    throw stopped(error.line, rows, error.cause);
  }
  await flush();
  return { rows };
}

function isIterable(source: unknown): boolean {
  if (typeof source === 'string') return true;
  return typeof source === 'object' && source !== null && (Symbol.asyncIterator in source || Symbol.iterator in source);
}

/** A line that is no row. The rows before it are written all the same. */
class UnreadableLine extends Error {
  readonly line: number;
  constructor(line: number, cause: unknown) {
    super(`line ${line}`, { cause });
    this.line = line;
  }
}

async function* jsonRows(
  schema: Schema,
  source: AsyncIterable<string | Uint8Array> | Iterable<string | Uint8Array>,
): AsyncGenerator<NumberedRow> {
  let line = 0;
  for await (const text of linesOf(source)) {
    line++;
    if (text.trim() === '') continue;
    let given: { table?: unknown; row?: Record<string, JsonValue> };
    try {
      given = JSON.parse(text) as typeof given;
    } catch (error) {
      throw new UnreadableLine(line, error);
    }
    const { row } = given;
    if (typeof given?.table !== 'string' || row === null || typeof row !== 'object')
      throw new UnreadableLine(
        line,
        new KoinonError('value-type', `{"table":…,"row":{…}} is expected, not ${shown(given)}.`),
      );
    const unknown = Object.fromEntries(
      Object.entries(row).filter(([name]) => !tableOf(schema, given.table as string).columns[name]),
    );
    yield { line, table: given.table, columns: { ...unknown, ...columnsFromWire(tableOf(schema, given.table), row) } };
  }
}

async function* csvRows(
  schema: Schema,
  source: AsyncIterable<string | Uint8Array> | Iterable<string | Uint8Array>,
  tableName: string,
): AsyncGenerator<NumberedRow> {
  const table = tableOf(schema, tableName);
  const parser = parse({
    bom: true,
    columns: true,
    info: true,
    relax_column_count: true,
    cast: (text, context) => (context.header ? text : fieldValue(table, text, context)),
  });
  const reading = new CsvReading(parser, source);
  try {
    for await (const { record, info } of reading.records()) {
      // Reported here and not by the parser, which would drop the rows that it has read ahead.
      if (info.error) throw new UnreadableLine(info.lines, info.error);
      yield { line: info.lines, table: tableName, columns: record };
    }
  } catch (error) {
    throw error instanceof UnreadableLine ? error : new UnreadableLine(parser.info.lines, error);
  }
}

/**
 * Feeds a parser with a text, and hands out what it gives, one after the other. The stream of its browser build can be neither
 * iterated over nor destroyed.
 */
class CsvReading {
  private readonly parser: ReturnType<typeof parse>;
  private wake = () => {};
  private goOn = () => {};
  private isOver = false;
  private failure: { readonly error: unknown } | undefined;

  constructor(
    parser: ReturnType<typeof parse>,
    source: AsyncIterable<string | Uint8Array> | Iterable<string | Uint8Array>,
  ) {
    this.parser = parser;
    const fail = (error: unknown) => {
      this.failure ??= { error };
      this.wake();
    };
    parser.on('readable', () => this.wake());
    parser.on('error', fail);
    parser.on('end', () => {
      this.isOver = true;
      this.wake();
    });
    this.feed(source).catch(fail);
  }

  async *records(): AsyncGenerator<CsvRecord> {
    try {
      for (;;) {
        const record: CsvRecord | null = this.parser.read();
        if (record !== null) yield record;
        else if (this.failure) throw this.failure.error;
        else if (this.isOver) return;
        else await this.woken();
      }
    } finally {
      // A reader who stops half-way reads no more of the source either.
      this.isOver = true;
      this.goOn();
    }
  }

  private async feed(source: AsyncIterable<string | Uint8Array> | Iterable<string | Uint8Array>): Promise<void> {
    const decoder = new TextDecoder();
    for await (const piece of source) {
      const text = typeof piece === 'string' ? piece : decoder.decode(piece, { stream: true });
      if (this.isOver) return;
      if (!this.parser.write(text))
        await new Promise<void>((go) => {
          this.goOn = go;
          this.parser.once('drain', () => go());
        });
    }
    this.parser.end(decoder.decode());
  }

  private woken(): Promise<void> {
    return new Promise((done) => {
      this.wake = done;
    });
  }
}

/** A field of a CSV file as a value of its column; what does not read as one is left as text, for the checks to refuse. */
function fieldValue(table: Table, text: string, { column: name, quoting }: CastingContext): unknown {
  const column: Column | undefined = table.columns[String(name)];
  if (text === '' && !quoting) return column === undefined ? undefined : null;
  switch (column?.type) {
    case 'integer':
    case 'real':
    case 'counter':
      return text.trim() === '' || Number.isNaN(Number(text)) ? text : Number(text);
    case 'boolean':
      return text === 'true' ? true : text === 'false' ? false : text;
    case 'json':
    case 'file':
    case 'set':
      try {
        return JSON.parse(text) as unknown;
      } catch {
        return text;
      }
    case 'bytes':
    case 'big-integer':
      return columnsFromWire(table, { [String(name)]: text })[String(name)];
    default:
      return text;
  }
}

async function* linesOf(
  source: AsyncIterable<string | Uint8Array> | Iterable<string | Uint8Array>,
): AsyncGenerator<string> {
  const decoder = new TextDecoder();
  let rest = '';
  for await (const piece of source) {
    const parts = (rest + (typeof piece === 'string' ? piece : decoder.decode(piece, { stream: true }))).split('\n');
    rest = parts.pop() as string;
    yield* parts;
  }
  if (rest !== '') yield rest;
}

function stopped(line: number, rows: number, cause: unknown): KoinonError {
  const reason = cause as KoinonError;
  const { table, id, column, value, rule } = reason instanceof KoinonError ? reason : ({} as Partial<KoinonError>);
  const details = Object.fromEntries(
    Object.entries({ table, id, column, value, rule }).filter(([, detail]) => detail !== undefined),
  );
  return new KoinonError(
    'import-stopped',
    `Line ${line}: ${reason.message} The rows before it are in (${rows}); correct it and import the rest.`,
    { ...details, cause },
  );
}
