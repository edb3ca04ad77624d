import {
  type AnyRow,
  type Change,
  type Problem,
  type RowComplaint,
  type RowKey,
  type Schema,
  type ServerValues,
  sameValue,
  type Table,
  tableOf,
  type Writer,
  withDefaults,
} from '@koinon/core';
import {
  applyChange,
  changedColumns,
  changeProblems,
  columnsToWire,
  errorFromProblems,
  rowKey,
  serverProblemOf,
} from '@koinon/core/internal';
import type { Guard } from '../scope/guard.ts';
import type { RowWrite, RuleContext } from '../scope/row-write.ts';
import { ConstraintError, rowsByKey, type Store, type StoreWriter } from '../store/store.ts';
import { type Filled, PendingWrites } from './pending.ts';
import { type AnyTableRules, type RuleOptions, type RuleSet, ruleSet } from './rules.ts';
import { wholeProblems } from './shared.ts';

/** The result of a transaction under the rules. */
export interface RuledWrite {
  readonly problems: readonly Problem[];
  /** The values that the rules gave instead of those that were sent. */
  readonly values: readonly ServerValues[];
}

/**
 * Writes a transaction's changes with the server's rules around them: first whether its user may, then what `before` fills
 * in, then the rows, then `validate`, then `after`. A rule that throws, answers nonsense or takes too long refuses the transaction.
 *
 * @param by who made the changes: a device, under the receipt that the writer carries, or the server's own service.
 */
export async function writeByRules(
  { schema, writer, rules, guard }: Ruling,
  changes: readonly Change[],
  keys: readonly RowKey[],
  by: Writer,
): Promise<RuledWrite> {
  const isScoped = (table: string) => guard?.scopes.isGuarded(table) === true;
  const ruled = keys.filter(({ table }) => rules.tables[table] !== undefined || isScoped(table));
  if (ruled.length === 0) {
    await writer.apply(changes, by);
    guard?.wrote(keys);
    return { problems: await wholeProblems(schema, writer, keys, guard && { guard, changes }), values: [] };
  }
  const run = new Run(schema, writer, rules);
  const before = await rowsByKey(writer, ruled);
  const intended = guard ? intendedRows(schema, changes, isScoped, before) : new Map<string, AnyRow | null>();
  const scoped = ruled.filter((key) => intended.has(rowKey(key)));
  for (const [key, write] of netWrites(schema, scoped, before, intended))
    await run.ask(guard?.scopes.writeRule(key.table) as AnyTableRules['validate'], 'not-permitted', key, write);
  if (run.problems.length > 0) return { problems: run.problems, values: [] };
  const fills = await run.write(changes, before, by);
  if (run.problems.length > 0) return { problems: run.problems, values: [] };
  guard?.wrote(keys);
  run.problems.push(...((await guard?.misplaced(intended)) ?? []));
  run.problems.push(...(await wholeProblems(schema, writer, keys, guard && { guard, changes })));
  const judged = ruled.filter(({ table }) => rules.tables[table]?.validate ?? rules.tables[table]?.after);
  const writes = netWrites(schema, judged, before, await rowsByKey(writer, judged));
  for (const [key, write] of writes) await run.ask(rules.tables[key.table]?.validate, 'rule-refused', key, write);
  if (run.problems.length === 0)
    for (const [key, write] of writes) await run.ask(rules.tables[key.table]?.after, undefined, key, write);
  const values = fills.map(({ table, id, columns }) => ({
    table,
    id,
    columns: columnsToWire(schema.tables[table] as Table, columns),
  }));
  return { problems: run.problems, values };
}

/**
 * Writes rows for a service of the server's own, by the same rules as a device's changes: all of them or none. Replicas
 * get them like every other change.
 *
 * @throws KoinonError with every problem found.
 * @example
 * await writeRows(store, [{ kind: 'update', table: 'hive', id, columns: { queen: 'marked' } }], { rules })
 */
export async function writeRows<S extends Schema>(
  store: Store,
  changes: readonly ServiceChange[],
  options: RuleOptions<S> = {},
): Promise<void> {
  const rules = ruleSet(options, (error) => {
    throw error;
  });
  await store.write((writer) => writeChanges({ schema: store.schema, writer, rules }, changes));
}

/** Writes the server's own changes by the rules, inside a transaction of the caller's. @throws KoinonError with every problem found. */
export async function writeChanges(ruling: Ruling, changes: readonly ServiceChange[]): Promise<void> {
  const { schema, writer } = ruling;
  const read = changes.map((change): Change => {
    if (change.kind === 'delete') return change;
    const table = tableOf(schema, change.table);
    if (change.kind === 'insert') return { ...change, kind: 'insert', columns: withDefaults(table, change.columns) };
    return { ...change, kind: 'update', operations: {} };
  });
  refuseProblems(read.flatMap((change) => changeProblems(tableOf(schema, change.table), change, 'server')));
  // Locks the rows, in the order in which everybody does.
  const keys = [...new Map(read.map(({ table, id }) => [rowKey({ table, id }), { table, id }])).entries()]
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([, key]) => key);
  await writer.stamps(keys, null);
  const { problems } = await writeByRules(ruling, read, keys, 'server').catch((error): RuledWrite => {
    if (error instanceof ConstraintError) return { problems: [error.problem], values: [] };
    throw error;
  });
  refuseProblems(problems);
}

/** A change as a service makes it. */
export type ServiceChange =
  | (RowKey & { readonly kind: 'insert' | 'update'; readonly columns: Readonly<Record<string, unknown>> })
  | (RowKey & { readonly kind: 'delete' });

/** Tells whether a user may write a column of a row, by the rule that his scope has for it. Nothing is written. */
export async function mayWrite(
  { schema, writer, rules, guard }: Ruling,
  key: RowKey,
  row: AnyRow,
  column: string,
): Promise<boolean> {
  const run = new Run(schema, writer, rules);
  const write = { kind: 'update', id: key.id, before: row, after: row, changed: [column] } as const;
  await run.ask(guard?.scopes.writeRule(key.table) as AnyTableRules['validate'], 'not-permitted', key, write);
  return run.problems.length === 0;
}

/** The parts for running rules. */
export interface Ruling {
  readonly schema: Schema;
  readonly writer: StoreWriter;
  readonly rules: RuleSet;
  /** The rights of the user to see and write; without it everything. */
  readonly guard?: Guard | undefined;
}

/** The result of a function of the app that ran within its time; what it threw; or what the database refused in it. */
export type Within<T> = { readonly value: T } | { readonly error: unknown } | { readonly problem: Problem };

/** The time that a function of the app has. */
class Turn {
  isOver = false;
  private controller: AbortController | undefined;

  /** Made when it is asked for: most functions do not look at it, and it takes longer than most of them. */
  get signal(): AbortSignal {
    this.controller ??= new AbortController();
    if (this.isOver) this.controller.abort(turnOver);
    return this.controller.signal;
  }

  end(): void {
    this.isOver = true;
    this.controller?.abort(turnOver);
  }
}

/** Why the signal is aborted: one for all, since making an error takes longer than most rules. */
const turnOver = new Error('the rule is over');

/** The rules of one transaction, one after the other. */
export class Run {
  readonly problems: Problem[] = [];
  private readonly schema: Schema;
  private readonly writer: StoreWriter;
  private readonly rules: RuleSet;

  constructor(schema: Schema, writer: StoreWriter, rules: RuleSet) {
    this.schema = schema;
    this.writer = writer;
    this.rules = rules;
  }

  /**
   * Writes changes one after the other with what `before` gives to their rows: each rule sees what was written before it. A
   * change whose unique value another one of the transaction has yet to give up is written with the last ones.
   *
   * @returns what was given, by row.
   */
  async write(changes: readonly Change[], before: ReadonlyMap<string, AnyRow>, by: Writer): Promise<readonly Filled[]> {
    const present = new Map<string, AnyRow | null>(before);
    const pending = new PendingWrites(this.writer, by);
    for (const change of changes) {
      const rule = this.rules.tables[change.table]?.before;
      // Rules look at the database: what comes before them stands there.
      if (rule !== undefined) await pending.writeFree();
      const key = rowKey(change);
      const table = tableOf(this.schema, change.table);
      const was = present.get(key) ?? null;
      const becomes = applyChange(table, was, change);
      present.set(key, becomes);
      pending.add(change);
      if (rule === undefined || becomes === null) continue;
      const columns = await this.fill(rule, change, writeOf(table, change, was, becomes));
      if (columns === undefined || Object.keys(columns).length === 0) continue;
      present.set(key, { ...becomes, ...columns });
      pending.fill(change, columns);
    }
    if (this.problems.length === 0) await pending.writeAll();
    return pending.filled;
  }

  /** The columns to which `before` gives another value than its row has. */
  private async fill(
    rule: NonNullable<AnyTableRules['before']>,
    change: Change,
    write: RowWrite<AnyRow>,
  ): Promise<Record<string, unknown> | undefined> {
    const given = await this.call(rule, change, write);
    if (given === undefined || given === null) return undefined;
    if (typeof given !== 'object') {
      this.failed(change, new Error(`before returned ${String(given)}`));
      return undefined;
    }
    const columns = given as Record<string, unknown>;
    const asked = { ...change, kind: 'update', columns, operations: {} } as Change;
    this.problems.push(...changeProblems(tableOf(this.schema, change.table), asked, 'server'));
    return Object.fromEntries(
      Object.entries(columns).filter(([name, value]) => !sameValue(write.after?.[name], value)),
    );
  }

  /** Asks a rule about one row; what it complains of is refused under a code. Without a code it only does something. */
  async ask(
    rule: AnyTableRules['validate'],
    code: 'rule-refused' | 'not-permitted' | undefined,
    key: RowKey,
    write: RowWrite<AnyRow>,
  ): Promise<void> {
    if (rule === undefined) return;
    const answer = await this.call(rule, key, write);
    if (code === undefined || answer === undefined || answer === null) return;
    if (!Array.isArray(answer) || !answer.every(isComplaint)) {
      this.failed(key, new Error(`a rule returned ${JSON.stringify(answer) ?? String(answer)}`));
      return;
    }
    for (const { column, message } of answer as RowComplaint[])
      this.problems.push({ code, ...key, message, ...(column === undefined ? {} : { column }) });
  }

  /** Calls a rule within its time; what goes wrong in it is a problem of the transaction, not of the request. */
  private async call(
    rule: (write: RowWrite<AnyRow>, context: RuleContext<Schema>) => unknown,
    key: RowKey,
    write: RowWrite<AnyRow>,
  ): Promise<unknown> {
    const outcome = await this.within((context) => rule(write, context));
    if ('value' in outcome) return outcome.value;
    if ('problem' in outcome) this.problems.push(outcome.problem);
    else this.failed(key, outcome.error);
    return undefined;
  }

  /** Calls a function of the app within its time. Its later calls to the database are refused. */
  async within<T>(work: (context: RuleContext<Schema>) => T | Promise<T>): Promise<Within<T>> {
    const turn = new Turn();
    const { timeLimit } = this.rules;
    let timer: NodeJS.Timeout | undefined;
    try {
      const working = work(this.context(turn));
      if (!isPromise(working)) return { value: working };
      const limit = new Promise<never>((_, reject) => {
        timer = setTimeout(() => reject(new Error(`took longer than ${timeLimit} ms`)), timeLimit);
      });
      return { value: await Promise.race([working, limit]) };
    } catch (error) {
      // The transaction as a whole is tried again: that is the store's to do.
      if (['40001', '40P01'].includes((error as { code?: string }).code ?? '')) throw error;
      return error instanceof ConstraintError ? { problem: error.problem } : { error };
    } finally {
      clearTimeout(timer);
      turn.end();
    }
  }

  private failed(key: RowKey, error: unknown): void {
    this.rules.report(error, key);
    const { table, id } = key;
    this.problems.push(serverProblemOf(this.schema, 'rule-failed', { table, id }, 'rule-failed'));
  }

  private context(turn: Turn): RuleContext<Schema> {
    const { schema, writer } = this;
    const open = <T>(work: () => Promise<T>): Promise<T> =>
      turn.isOver ? Promise.reject(new Error('the rule has been over for some time')) : work();
    const write = (change: Change) =>
      open(async () => {
        const [first, ...rest] = changeProblems(tableOf(schema, change.table), change, 'server');
        if (first) throw errorFromProblems([first, ...rest]);
        await writer.apply([change], 'server');
      });
    return {
      user: this.rules.user,
      get: ((table: string, id: string) =>
        open(async () => (await writer.rows(table, [id])).get(id))) as RuleContext<Schema>['get'],
      query: ((sql: string, ...values: readonly unknown[]) =>
        open(() => writer.query(sql, values))) as RuleContext<Schema>['query'],
      insert: (table, row) => {
        const { id, ...columns } = row as AnyRow;
        return write({ kind: 'insert', table, id, columns: withDefaults(tableOf(schema, table), columns) });
      },
      update: (table, id, patch) => write({ kind: 'update', table, id, columns: { ...patch }, operations: {} }),
      delete: (table, id) => write({ kind: 'delete', table, id }),
      sequence: (name) => open(() => writer.nextInSequence(name)),
      get signal() {
        return turn.signal;
      },
    };
  }
}

/** Tells whether a function of the app has yet to answer. */
function isPromise<T>(given: T | Promise<T>): given is Promise<T> {
  return typeof (given as { then?: unknown } | null | undefined)?.then === 'function';
}

function isComplaint(given: unknown): boolean {
  const { message, column } = (given ?? {}) as { message?: unknown; column?: unknown };
  return typeof message === 'string' && (column === undefined || typeof column === 'string');
}

function writeOf(
  table: Table,
  { id }: Pick<Change, 'id'>,
  before: AnyRow | null,
  after: AnyRow | null,
): RowWrite<AnyRow> {
  const kind = before === null ? 'insert' : after === null ? 'delete' : 'update';
  const changed = before && after ? changedColumns(table, before, after) : table.names;
  return { kind, id, before, after, changed };
}

/** The rows of scoped tables as a transaction's own changes leave them, before any rule has filled in anything. */
function intendedRows(
  schema: Schema,
  changes: readonly Change[],
  isScoped: (table: string) => boolean,
  before: ReadonlyMap<string, AnyRow>,
): Map<string, AnyRow | null> {
  const rows = new Map<string, AnyRow | null>();
  for (const change of changes) {
    const key = rowKey(change);
    if (!isScoped(change.table)) continue;
    const row = rows.has(key) ? (rows.get(key) ?? null) : (before.get(key) ?? null);
    rows.set(key, applyChange(tableOf(schema, change.table), row, change));
  }
  return rows;
}

/** The effect of the transaction on each row in all; rows that are as they were are left out. */
function netWrites(
  schema: Schema,
  keys: readonly RowKey[],
  before: ReadonlyMap<string, AnyRow>,
  after: ReadonlyMap<string, AnyRow | null>,
): (readonly [RowKey, RowWrite<AnyRow>])[] {
  return keys.flatMap((key) => {
    const [was, is] = [before.get(rowKey(key)) ?? null, after.get(rowKey(key)) ?? null];
    if (was === null && is === null) return [];
    const write = writeOf(schema.tables[key.table] as Table, key, was, is);
    return write.kind === 'update' && write.changed.length === 0 ? [] : [[key, write] as const];
  });
}

/** Refuses what a service's own write was refused for. */
function refuseProblems(problems: readonly Problem[]): void {
  const [first, ...rest] = problems;
  if (first) throw errorFromProblems([first, ...rest]);
}
