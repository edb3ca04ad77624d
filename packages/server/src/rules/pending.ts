import type { Change, RowKey, Writer } from '@koinon/core';
import { rowKey } from '@koinon/core/internal';
import type { StoreWriter } from '../store/store.ts';

/** The values that rules gave to a row. */
export interface Filled extends RowKey {
  readonly columns: Readonly<Record<string, unknown>>;
}

/** The changes of a transaction that are yet to be written, and what rules gave to their rows. */
export class PendingWrites {
  private readonly writer: StoreWriter;
  private readonly by: Writer;
  private changes: Change[] = [];
  /** The given values that are yet to be written, by row. */
  private fills = new Map<string, Filled>();
  private readonly given = new Map<string, Filled>();

  /** @param by who made the changes; what rules give is the server's own. */
  constructor(writer: StoreWriter, by: Writer) {
    this.writer = writer;
    this.by = by;
  }

  /** All that was given, by row. */
  get filled(): readonly Filled[] {
    return [...this.given.values()].filter(({ columns }) => Object.keys(columns).length > 0);
  }

  add(change: Change): void {
    this.changes.push(change);
    // A value that was given before does not hold where the change says otherwise.
    for (const some of [this.fills, this.given]) {
      const earlier = some.get(rowKey(change));
      if (earlier) some.set(rowKey(change), { ...earlier, columns: columnsBeside(change, earlier.columns) });
    }
  }

  /** Gives columns to the row of the change that was added last. */
  fill({ table, id }: RowKey, columns: Filled['columns']): void {
    const key = rowKey({ table, id });
    for (const some of [this.fills, this.given])
      some.set(key, { table, id, columns: { ...some.get(key)?.columns, ...columns } });
  }

  /** Writes what can be written before the rest of the transaction is there: a unique value may yet be given up. */
  async writeFree(): Promise<void> {
    if (this.changes.length > 0) this.changes = [...(await this.writer.applyFree(this.changes, this.by))];
    const waiting = new Set(this.changes.map(rowKey));
    const ready = [...this.fills.values()].filter((fill) => !waiting.has(rowKey(fill)));
    if (ready.length === 0) return;
    const left = await this.writer.applyFree(ready.map(asChange), 'server');
    const unwritten = new Set([...waiting, ...left.map(rowKey)]);
    this.fills = new Map([...this.fills].filter(([key]) => unwritten.has(key)));
  }

  /** Writes all that is left. @throws ConstraintError. */
  async writeAll(): Promise<void> {
    await this.writer.apply(this.changes, this.by);
    if (this.fills.size > 0) await this.writer.apply([...this.fills.values()].map(asChange), 'server');
    this.changes = [];
    this.fills.clear();
  }
}

const asChange = (fill: Filled): Change => ({ ...fill, kind: 'update', operations: {} });

function columnsBeside(change: Change, columns: Filled['columns']): Filled['columns'] {
  if (change.kind !== 'update') return {};
  const isSaid = (name: string) => Object.hasOwn(change.columns, name) || Object.hasOwn(change.operations, name);
  return Object.fromEntries(Object.entries(columns).filter(([name]) => !isSaid(name)));
}
