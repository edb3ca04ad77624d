import {
  type ActionInput,
  type ActionName,
  type AnyRow,
  type Change,
  KoinonError,
  type NewRow,
  type Patch,
  type Problem,
  type Query,
  type Row,
  type Schema,
  sameValue,
  type Table,
  type TableName,
  tableOf,
  type WritableTableName,
  withDefaults,
} from '@koinon/core';
import {
  actionOf,
  applyChange,
  changeProblems,
  errorFromProblems,
  idOfKey,
  inputToWire,
  joinChanges,
  keptColumns,
  noSuchRow,
  rowKey,
  rowLabel,
  rowProblems,
  sentence,
  wholeRow,
} from '@koinon/core/internal';
import { argumentsOf } from '../engine/arguments.ts';
import { withBytes } from '../engine/bytes.ts';
import type { Write } from '../engine/steps.ts';
import { DataApi, typed } from './data-api.ts';
import type { Replica } from './replica.ts';

/** The effect that a draft would have on one row. */
export interface DraftedRow {
  readonly table: string;
  readonly id: string;
  readonly kind: Change['kind'];
  /** The row as the replica had it when the draft first touched it; null for a new one. */
  readonly before: AnyRow | null;
  /** The row as the draft has it; null if it deletes it. */
  readonly after: AnyRow | null;
  /** Columns the draft changes; all of them for a new row, none for a deleted one. */
  readonly columns: readonly string[];
}

/** A row of a draft that has changed in the replica since the draft first touched it. */
export interface Overtaken extends DraftedRow {
  /** The row as the replica has it now; null if it is gone. */
  readonly now: AnyRow | null;
}

interface Entry {
  readonly before: AnyRow | null;
  change: Change;
  /** The row as the replica has it now, where it is no longer as it was. */
  now?: AnyRow | null;
}

const rolledBack = Symbol('a check ends by rolling back');

/**
 * Edits held in memory over the replica: nothing of them is stored, seen by others or sent before `commit`, which writes
 * them as one transaction. Reads through the draft see them.
 *
 * @example
 * const draft = replica.draft()
 * await draft.update('hive', 'h', { mark: 'B2' })
 * await draft.commit() // or draft.discard()
 */
export class Draft<S extends Schema> {
  private readonly schema: S;
  private readonly replica: Replica<S>;
  private readonly newId: () => string;
  private readonly entries = new Map<string, Entry>();
  private invoked: { name: ActionName<S>; input: Readonly<Record<string, unknown>> }[] = [];
  private readonly listeners = new Set<() => void>();
  private readonly stops = new Map<string, () => void>();

  constructor(schema: S, replica: Replica<S>, newId: () => string) {
    this.schema = schema;
    this.replica = replica;
    this.newId = newId;
  }

  /** The row as the draft has it. */
  async get<T extends TableName<S>>(table: T, id: string): Promise<Row<S, T> | undefined> {
    const entry = this.entries.get(rowKey({ table, id }));
    if (entry === undefined) return this.replica.get(table, id);
    return (this.after(entry) ?? undefined) as Row<S, T> | undefined;
  }

  /** The rows a query asks for, over what the draft would make of them. Joins see the replica, not the draft. */
  async rows<T extends TableName<S>>(query: Query<S, T>): Promise<readonly Row<S, T>[]> {
    if (this.entries.size === 0) return typed(this.replica.rows(query));
    // Loaded only for this: most forms never ask a query of their draft.
    const { rowsOver } = await import('./rows-over.ts');
    const drafted = [...this.entries.values()].map((entry) => ({ ...entry.change, after: this.after(entry) }));
    return rowsOver(this.schema, this.replica, query, drafted);
  }

  /** Adds a row to the draft. */
  async insert<T extends WritableTableName<S>>(table: T, row: NewRow<S, T>): Promise<Row<S, T>> {
    const definition = tableOf(this.schema, table);
    const { id: givenId, ...given } = (await bytesOf(row)) as Readonly<Record<string, unknown>> & {
      readonly id?: string;
    };
    const columns = withDefaults(definition, given);
    const id = givenId ?? idOfKey(definition, columns) ?? this.newId();
    if ((await this.get(table, id)) !== undefined)
      throw new KoinonError(
        'duplicate-id',
        `${sentence(rowLabel(this.schema, { table, id }))} is there already; update it, or insert under another id.`,
        { table, id, column: 'id', value: id },
      );
    return typed(this.take(definition, { kind: 'insert', table, id, columns }));
  }

  /** Changes columns of a row in the draft. */
  async update<T extends WritableTableName<S>>(table: T, id: string, patch: Patch<S, T>): Promise<Row<S, T>> {
    const definition = tableOf(this.schema, table);
    const before = await this.existing(table, id);
    const given = Object.entries(await bytesOf(patch)).filter(
      ([name, value]) => value !== undefined && !sameValue((before as AnyRow)[name], value),
    );
    const change: Change = { kind: 'update', table, id, columns: Object.fromEntries(given), operations: {} };
    if (given.length === 0) return before;
    return typed(this.take(definition, change));
  }

  /** Deletes a row in the draft. */
  async delete<T extends WritableTableName<S>>(table: T, id: string): Promise<void> {
    await this.existing(table, id);
    await this.take(tableOf(this.schema, table), { kind: 'delete', table, id });
  }

  /**
   * Asks for an action of the server when the draft is committed, behind its edits. @throws KoinonError `unknown-action`, or what is wrong with the input.
   */
  invoke<N extends ActionName<S>>(name: N, input: ActionInput<S, N>): void {
    const [, values] = argumentsOf('invoke', [name, input]) as [unknown, Readonly<Record<string, unknown>>];
    inputToWire(name, actionOf(this.schema, name), values);
    this.invoked.push({ name, input: values });
    this.notify();
  }

  /** The actions that it would ask for, in order. */
  get actions(): readonly { readonly name: ActionName<S>; readonly input: Readonly<Record<string, unknown>> }[] {
    return this.invoked;
  }

  /** The rows that the draft would change, in the order in which they were first touched. */
  changes(): readonly DraftedRow[] {
    return [...this.entries.values()].map((entry) => this.drafted(entry));
  }

  /** Rows of the draft that have changed in the replica since the draft first touched them. */
  overtaken(): readonly Overtaken[] {
    return [...this.entries.values()].flatMap((entry) =>
      entry.now === undefined ? [] : [{ ...this.drafted(entry), now: entry.now }],
    );
  }

  /** Calls at once, then whenever the draft changes or a row of it changes underneath. Returns a function that ends that. */
  subscribe(listener: () => void): () => void {
    this.listeners.add(listener);
    listener();
    return () => this.listeners.delete(listener);
  }

  /** The problems that commit would refuse: rules of values and rows, unique values, references. Nothing is written. */
  async check(): Promise<readonly Problem[]> {
    let problems: readonly Problem[] = [];
    try {
      await this.replica.transaction(async (transaction) => {
        await DataApi.executeStep(transaction, 'batch', [this.writes()]);
        problems = await transaction.check();
        throw rolledBack;
      });
    } catch (error) {
      if (error === rolledBack) return problems;
      if (error instanceof KoinonError)
        return error.problems.length > 0 ? error.problems : [{ code: error.code, message: error.message }];
      throw error;
    }
    return problems;
  }

  /** Writes the draft as one transaction and empties it. When that is refused the draft stays as it is. */
  async commit(): Promise<void> {
    if (this.entries.size + this.invoked.length === 0) return;
    // One call, so that a page that is being left needs to get only one message out.
    await DataApi.executeStep(this.replica, 'batch', [this.writes()]);
    this.discard();
  }

  /** Drops all edits. */
  discard(): void {
    this.entries.clear();
    this.invoked = [];
    for (const stop of this.stops.values()) stop();
    this.stops.clear();
    this.notify();
  }

  /** Puts one edit on top of what the draft has of the row, after checking it by the schema. */
  private async take(table: Table, change: Change): Promise<AnyRow | undefined> {
    const problems = changeProblems(table, change);
    if (problems.length > 0) throw errorFromProblems(problems as [Problem, ...Problem[]]);
    const clean = change.kind === 'delete' ? change : { ...change, columns: keptColumns(table, change.columns) };
    const key = rowKey(change);
    const known = this.entries.get(key);
    const before = known ? known.before : ((await this.replica.get(change.table as TableName<S>, change.id)) ?? null);
    const row =
      clean.kind === 'insert'
        ? wholeRow(table, clean.id, clean.columns)
        : clean.kind === 'update'
          ? applyChange(table, known ? this.after(known) : (before as AnyRow), clean)
          : null;
    const wrong = row === null ? [] : rowProblems(change.table, table, row as AnyRow);
    if (wrong.length > 0) throw errorFromProblems(wrong as [Problem, ...Problem[]]);
    // A new row that is deleted again, and edits that lead back to where the row was, are nothing.
    if (before === null && row === null) this.entries.delete(key);
    else if (before !== null && row !== null && sameValue({ ...before }, { ...(row as AnyRow) }))
      this.entries.delete(key);
    else if (known) known.change = joinChanges(table, known.change, clean);
    else this.entries.set(key, { before, change: clean });
    this.watch(change.table);
    this.notify();
    return row ?? undefined;
  }

  private watch(table: string): void {
    if (this.stops.has(table)) return;
    const stop = this.replica.listen(table as TableName<S>, (events) => {
      let concerned = false;
      for (const { id, after } of events) {
        const entry = this.entries.get(rowKey({ table, id }));
        if (!entry) continue;
        concerned = true;
        // A row that the database has given a key is there under that: it has not gone. Neither has one whose key names such a row.
        const { assignedKey, key } = tableOf(this.schema, table);
        if (after === null && (assignedKey || key.length > 0)) void this.lookAnew(table, id, entry);
        else this.compare(entry, after as unknown as AnyRow | null);
      }
      if (concerned) this.notify();
    });
    this.stops.set(table, stop);
  }

  /** Notes what others have made of a row meanwhile. */
  private compare(entry: Entry, now: AnyRow | null): void {
    const columns = (row: AnyRow | null) => row && { ...row, id: '' };
    if (sameValue(columns(entry.before), columns(now))) delete entry.now;
    else entry.now = now;
  }

  private async lookAnew(table: string, id: string, entry: Entry): Promise<void> {
    const now = await this.replica.get(table as TableName<S>, id).catch(() => undefined);
    this.compare(entry, (now as AnyRow | undefined) ?? null);
    this.notify();
  }

  private writes(): readonly Write[] {
    const edits = [...this.entries.values()].map(({ before, change }): Write => {
      const { kind, table, id } = change;
      if (kind === 'delete') return { name: 'delete', given: [table, id] };
      if (kind === 'insert' && before === null) return { name: 'insert', given: [table, { ...change.columns, id }] };
      return { name: 'update', given: [table, id, change.columns] };
    });
    return [...edits, ...this.invoked.map(({ name, input }): Write => ({ name: 'invoke', given: [name, input] }))];
  }

  private drafted(entry: Entry): DraftedRow {
    const { change, before } = entry;
    const columns = change.kind === 'delete' ? [] : Object.keys(change.columns);
    return {
      table: change.table,
      id: change.id,
      kind: change.kind === 'insert' && before !== null ? 'update' : change.kind,
      before,
      after: this.after(entry),
      columns,
    };
  }

  private after({ before, change }: Entry): AnyRow | null {
    return applyChange(tableOf(this.schema, change.table), before, change);
  }

  private async existing<T extends TableName<S>>(table: T, id: string): Promise<Row<S, T>> {
    const row = await this.get(table, id);
    if (row !== undefined) return row;
    throw new KoinonError('no-such-row', noSuchRow(this.schema, { table, id }, 'in this draft or under it'), {
      table,
      id,
      value: id,
    });
  }

  private notify(): void {
    for (const listener of [...this.listeners]) listener();
  }
}

/** The given columns, with the bytes of the Blobs in them: a draft holds values. */
const bytesOf = async <T extends object>(given: T): Promise<T> =>
  ((await withBytes([given]))?.[0] as T | undefined) ?? given;
