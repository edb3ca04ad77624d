import type { Column } from '@koinon/core';
import { readerOfType } from '@koinon/core/internal';

/** A value that another program wrote and that is not of its column's type. */
export interface Misfit {
  readonly table: string;
  readonly id: string;
  readonly column: string;
}

/** Misfits that are remembered as told. */
const mostTold = 10_000;

/**
 * The values of columns that nothing in the database holds to their types. One that does not fit is read as none: it stays
 * as it is in the database, and one row of it would otherwise stop every replica. It is told of once.
 */
export class TypedValues {
  private readonly tell: ((found: Misfit) => void) | undefined;
  private readonly readers = new WeakMap<Column, (value: unknown) => unknown>();
  private readonly told = new Set<string>();

  constructor(tell?: (found: Misfit) => void) {
    this.tell = tell;
  }

  /** The value, or what stands for none. @param value undefined where it could not even be read. */
  read(found: Misfit, column: Column, value: unknown): unknown {
    const read = this.readers.get(column) ?? readerOfType(column);
    this.readers.set(column, read);
    const typed = read(value);
    if (typed !== value && value !== null) this.note(found);
    return typed;
  }

  private note(found: Misfit): void {
    const key = JSON.stringify([found.table, found.id, found.column]);
    if (this.tell === undefined || this.told.has(key)) return;
    if (this.told.size >= mostTold) this.told.clear();
    this.told.add(key);
    this.tell(found);
  }
}
