import type { Change } from '../change/change.ts';
import type { Schema } from '../schema/schema.ts';
import type { Table } from '../table/table.ts';
import { columnsFromWire, columnsToWire } from '../values/wire.ts';
import type { WireChange } from './push.ts';

/** A change as JSON carries it. */
export function changeToWire(schema: Schema, change: Change): WireChange {
  const { kind, table, id } = change;
  if (change.kind === 'delete') return { kind, table, id };
  const columns = columnsToWire(schema.tables[table] as Table, change.columns);
  const operations = change.kind === 'update' ? change.operations : {};
  return { kind, table, id, columns, ...(Object.keys(operations).length > 0 ? { operations } : {}) };
}

/** A change that JSON carried, of a table the schema knows. Its values are not checked here. */
export function changeFromWire(schema: Schema, wire: WireChange): Change {
  const { kind, table, id } = wire;
  if (kind === 'delete') return { kind, table, id };
  const columns = columnsFromWire(schema.tables[table] as Table, wire.columns ?? {});
  return kind === 'insert'
    ? { kind, table, id, columns }
    : { kind, table, id, columns, operations: wire.operations ?? {} };
}
