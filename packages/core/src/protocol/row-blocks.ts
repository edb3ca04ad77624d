import type { JsonValue } from '../table/column.ts';
import type { PulledPage, PulledRow, RowBlock } from './pull.ts';

/** The rows of a block, each as a line of its own would say it. */
export function* rowsOfBlock({ table, position, columns, rows }: RowBlock): Generator<PulledRow> {
  for (const values of rows) {
    const named: Record<string, JsonValue> = {};
    for (let i = 0; i < columns.length; i++) named[columns[i] as string] = values[i + 1] as JsonValue;
    yield { kind: 'insert', table, id: values[0] as string, position, columns: named };
  }
}

/** A page whose rows are all by themselves. */
export function withoutBlocks({ header, rows, blocks = [] }: PulledPage): PulledPage {
  return blocks.length === 0
    ? { header, rows }
    : { header, rows: [...rows, ...blocks.flatMap((block) => [...rowsOfBlock(block)])] };
}
