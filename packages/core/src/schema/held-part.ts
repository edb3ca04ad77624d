import type { Action } from '../table/action.ts';
import type { Column } from '../table/column.ts';
import { named } from '../table/named.ts';
import type { Columns, Table } from '../table/table.ts';
import type { Schema } from './schema.ts';

/**
 * The part of a schema whose rows are on a device: without the tables that the server holds. A reference to one of those is a plain column there,
 * which only the server can check. The same schema where the server holds none.
 */
export function heldPart<S extends Schema>(schema: S): S {
  const isLeft = (name: string | undefined) => name !== undefined && schema.tables[name]?.home === 'server';
  const leftToServer = Object.keys(schema.tables).filter(isLeft);
  if (leftToServer.length === 0) return schema;
  const plain = (columns: Columns): Columns =>
    named(Object.fromEntries(Object.entries(columns).map(([name, column]) => [name, plainColumn(column)])));
  const plainColumn = (column: Column): Column => {
    const { target, ...rest } = column;
    return isLeft(target) ? rest : column;
  };
  const plainTable = <T extends Pick<Table, 'columns' | 'entries'>>(table: T): T => ({
    ...table,
    columns: plain(table.columns),
    entries: table.entries.map(([name, column]) => [name, plainColumn(column)] as const),
  });
  const tables = Object.entries(schema.tables).flatMap(([name, table]): [string, Table][] =>
    isLeft(name) ? [] : [[name, { ...plainTable(table), integrity: integrityOf(table, isLeft) }]],
  );
  const actions = Object.entries(schema.actions).map(([name, action]): [string, Action] => [
    name,
    { ...action, input: plainTable(action.input), result: plainTable(action.result) },
  ]);
  return Object.freeze({
    ...schema,
    tables: named(Object.fromEntries(tables)),
    actions: named(Object.fromEntries(actions)),
    leftToServer,
  });
}

/** The columns that a unique group or a reference depends on, but for references to what is not there. */
function integrityOf(table: Table, isLeft: (name: string | undefined) => boolean): readonly string[] {
  const unique = new Set(table.unique.flat());
  return table.integrity.filter((name) => unique.has(name) || !isLeft(table.columns[name]?.target));
}
