import type { Column, Schema } from '@koinon/core';

/** A column as a file remembers it. */
export interface StoredColumn {
  readonly type: Column['type'];
  readonly optional: boolean;
}

/** A column as a file remembers it. */
export function describeColumn({ type, optional }: Column): StoredColumn {
  return { type, optional };
}

/** The shape a schema gives a file. */
export function shapeOf(schema: Schema): Map<string, Map<string, StoredColumn>> {
  return new Map(
    Object.entries(schema.tables).map(([name, table]) => [
      name,
      new Map(Object.entries(table.columns).map(([column, definition]) => [column, describeColumn(definition)])),
    ]),
  );
}
