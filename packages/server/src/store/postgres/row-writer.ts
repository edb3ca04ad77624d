import type { AnyRow, Change, Column, Table } from '@koinon/core';
import { applyOperation, serverProblemOf, shown } from '@koinon/core/internal';
import type { ClientBase } from 'pg';
import { refusalProblem } from '../refusal.ts';
import { ConstraintError } from '../store.ts';
import { type Applying, applyFree, applyInWorkableOrder } from '../swap.ts';
import { type ExistingColumn, parameter, writeSql } from './columns.ts';
import { constraintProblem } from './constraints.ts';
import { catchUpRows } from './copies.ts';
import { idSql, isComposite, keySql } from './key.ts';
import type { AppTable } from './layout.ts';
import type { AppRows } from './rows.ts';

/** A row was inserted by somebody else between looking and writing: looking again shows it. */
export class InsertedMeanwhileError extends Error {}

type Insert = Extract<Change, { kind: 'insert' }>;

/** Values in one statement at most; PostgreSQL numbers them with 16 bits. */
const mostValues = 30_000;

/** The surroundings of what is written. */
interface Surroundings {
  /** A row as it stands. */
  read(table: string, id: string): Promise<AnyRow | undefined>;
  /** A statement is about to write the app's tables. */
  writing(): void;
  /** Told of each statement that has. */
  wrote(sql: string, values: readonly unknown[]): void;
}

/** Writes changes into the app's tables, on one connection. */
export class RowWriter {
  private readonly client: ClientBase;
  private readonly rows: AppRows;
  private readonly around: Surroundings;

  constructor(client: ClientBase, rows: AppRows, around: Surroundings) {
    this.client = client;
    this.rows = rows;
    this.around = around;
  }

  /** Writes the changes of a transaction. @throws ConstraintError; InsertedMeanwhileError. */
  async apply(changes: readonly Change[]): Promise<void> {
    await this.applyOr(changes, (applying) => applyInWorkableOrder(changes, applying));
  }

  /** Writes those whose unique values are free, and returns the others. @throws ConstraintError; InsertedMeanwhileError. */
  async applyFree(changes: readonly Change[]): Promise<readonly Change[]> {
    return (await this.applyOr(changes, (applying) => applyFree(changes, applying))) ?? [];
  }

  /** Writes changes at once, and one after the other where that is refused. */
  private async applyOr<T>(changes: readonly Change[], oneByOne: (applying: Applying) => Promise<T>) {
    let done: T | undefined;
    await this.client.query('SAVEPOINT at_once');
    try {
      await this.applyAtOnce(changes);
    } catch (error) {
      if (!(error instanceof ConstraintError)) throw error;
      // One after the other it may be possible; and if not, it is known which of them is at fault.
      await this.client.query('ROLLBACK TO SAVEPOINT at_once');
      done = await oneByOne({
        table: (name) => this.rows.table(name).table,
        apply: (change) => this.applyAlone(change),
      });
    }
    await this.client.query('RELEASE SAVEPOINT at_once');
    return done;
  }

  /** The same in their own order, where nothing else is to be tried. @throws ConstraintError; InsertedMeanwhileError. */
  async applyAtOnce(changes: readonly Change[]): Promise<void> {
    for (const group of this.groups(changes))
      if (group[0]?.kind === 'insert') await this.insert(group as Insert[]);
      else for (const change of group) await this.applyOne(change);
  }

  /** Inserts in a row into one table go together; updates and deletes one by one. */
  private *groups(changes: readonly Change[]): Generator<readonly Change[]> {
    let group: Change[] = [];
    for (const change of changes) {
      const [first] = group;
      const width = this.rows.table(change.table).columns.size + 1;
      const belongs =
        first?.kind === 'insert' &&
        change.kind === 'insert' &&
        change.table === first.table &&
        (group.length + 1) * width <= mostValues;
      if (!belongs && group.length > 0) {
        yield group;
        group = [];
      }
      group.push(change);
    }
    if (group.length > 0) yield group;
  }

  private async applyAlone(change: Change): Promise<void> {
    await this.client.query('SAVEPOINT alone');
    try {
      await this.applyOne(change);
    } catch (error) {
      await this.client.query('ROLLBACK TO SAVEPOINT alone');
      throw error;
    }
    await this.client.query('RELEASE SAVEPOINT alone');
  }

  private async applyOne(change: Change): Promise<void> {
    if (change.kind === 'insert') await this.insert([change]);
    else await this.translated(change, () => (change.kind === 'update' ? this.update(change) : this.delete(change)));
  }

  private async run<Row extends object>(sql: string, values: unknown[]): Promise<{ readonly rows: readonly Row[] }> {
    this.around.writing();
    const result = await this.client.query<Row>(sql, values);
    this.around.wrote(sql, values);
    return result;
  }

  private async insert(changes: readonly Insert[]): Promise<void> {
    const [first] = changes as [Insert, ...Insert[]];
    const at = this.rows.table(first.table);
    const { key, columns, table, softDelete } = at;
    const sql = at.copies?.view ?? at.sql;
    // The parts of a key are columns among the others.
    const ownKey = isComposite(key) ? undefined : key.columns[0];
    const written = [...columns].filter(([, { filled }]) => filled !== 'always');
    const values: unknown[] = [];
    const rows = changes.map((change) => {
      const fields = ownKey === undefined ? [] : [`$${values.push(change.id)}::${key.type}`];
      for (const [name, standing] of written) {
        const column = columnOf(table, name);
        const value = parameter(column, change.columns[name]);
        if (value === null && standing.filled === 'for none') fields.push('DEFAULT');
        else fields.push(writeSql(column, standing, values.push(value)));
      }
      return `(${fields.join(', ')})`;
    });
    const names = written.map(([, column]) => column.sql);
    // A row that is marked as deleted stands where this one goes.
    const revived = softDelete
      ? ` ON CONFLICT (${key.columns.map(({ sql }) => sql).join(', ')}) DO UPDATE SET ${[...names.map((name) => `${name} = excluded.${name}`), `${softDelete.sql} = ${softDelete.type === 'boolean' ? 'false' : 'NULL'}`].join(', ')}`
      : '';
    const hasOneForm = key.columns.every(({ type }) => type === 'text');
    await this.translated(first, async () => {
      const returned = await this.run<{ id: string }>(
        `INSERT INTO ${sql} AS r (${[...(ownKey ? [ownKey.sql] : []), ...names].join(', ')})${ownKey?.filled === 'always' && table.assignedKey ? ' OVERRIDING SYSTEM VALUE' : ''} VALUES ${rows.join(', ')}${revived}${hasOneForm ? '' : ` RETURNING ${idSql(key, 'r')} AS id`}`,
        values,
      );
      // A number or a UUID has one form here: under another the device would not know its own row again.
      const ids = new Set(returned.rows.map((row) => row.id));
      for (const change of hasOneForm ? [] : changes) {
        if (ids.has(change.id)) continue;
        const place = { table: change.table, id: change.id, column: 'id' };
        const type = key.columns.map((column) => column.type).join(', ');
        const parameters = { value: shown(change.id), type };
        throw new ConstraintError(serverProblemOf({ tables: {} }, 'value-type', place, 'id-form', parameters, type));
      }
      if (at.copies !== undefined) await this.refuseHidden(changes, at);
    });
  }

  private async update(change: Extract<Change, { kind: 'update' }>): Promise<void> {
    const at = this.rows.table(change.table);
    const { key, columns: standing, table } = at;
    const sql = at.copies?.view ?? at.sql;
    const operations = Object.entries(change.operations);
    const present = operations.length > 0 ? await this.around.read(change.table, change.id) : undefined;
    const columns: Record<string, unknown> = { ...change.columns };
    for (const [name, operation] of operations) columns[name] = applyOperation(present?.[name] ?? null, operation);
    const names = Object.keys(columns).filter((name) => standing.get(name)?.filled !== 'always');
    if (names.length === 0) return;
    const set = names.map((name, i) => {
      const column = standing.get(name) as ExistingColumn;
      return `${column.sql} = ${writeSql(columnOf(table, name), column, i + 2)}`;
    });
    const values = names.map((name) => parameter(columnOf(table, name), columns[name]));
    await this.run(`UPDATE ${sql} r SET ${set.join(', ')} WHERE ${keySql(key, 'r')} = $1::${key.type}`, [
      change.id,
      ...values,
    ]);
    await catchUpRows(this.client, at, [change.id]);
  }

  /** Refuses rows that a view does not show after they were written: nobody would ever see them again. */
  private async refuseHidden(changes: readonly Insert[], at: AppTable): Promise<void> {
    const ids = changes.map(({ id }) => id);
    await catchUpRows(this.client, at, ids);
    const shownRows = await this.rows.byIds(at.name, ids);
    const hidden = changes.find(({ id }) => !shownRows.has(id));
    if (hidden === undefined) return;
    const words = 'the view does not show the row that was written';
    const refusal = { code: 'constraint', says: 'refused-by-rule', words, rule: words } as const;
    throw new ConstraintError(refusalProblem(refusal, hidden, at.table));
  }

  private async delete(change: Change): Promise<void> {
    const at = this.rows.table(change.table);
    const { key, softDelete } = at;
    const sql = at.copies?.view ?? at.sql;
    const mark = softDelete?.type === 'boolean' ? 'true' : 'now()';
    await this.run(
      `${softDelete ? `UPDATE ${sql} r SET ${softDelete.sql} = ${mark}` : `DELETE FROM ${sql} r`} WHERE ${keySql(key, 'r')} = $1::${key.type}`,
      [change.id],
    );
    await catchUpRows(this.client, at, [change.id]);
  }

  private async translated(change: Change, work: () => Promise<unknown>): Promise<void> {
    try {
      await work();
    } catch (error) {
      if (error instanceof ConstraintError) throw error;
      const table = this.rows.table(change.table);
      const problem = constraintProblem(error, change, table);
      if (problem === undefined) throw error;
      if (
        problem.code === 'duplicate-value' &&
        problem.column === undefined &&
        table.copies === undefined &&
        isOfKey(error, table)
      )
        throw new InsertedMeanwhileError();
      throw new ConstraintError(problem);
    }
  }
}

const columnOf = (table: Table, name: string) => table.columns[name] as Column;

function isOfKey(error: unknown, { key }: AppTable): boolean {
  const { detail } = error as { readonly detail?: string };
  const columns = /^Key \(([^)]+)\)=/.exec(detail ?? '')?.[1]?.replaceAll('"', '');
  return columns === key.columns.map(({ sql }) => sql.slice(1, -1)).join(', ');
}
