import type { Column } from '@koinon/core';
import { readerOfType } from '@koinon/core/internal';

/** A value that another program wrote and that is not of its column's type. */
export interface InvalidStoredValue {
  readonly table: string;
  readonly id: string;
  readonly column: string;
}

/** Values that are remembered as reported. */
const mostReported = 10_000;

/**
 * The values of columns that nothing in the database holds to their types. One that does not fit is read as none: it stays
 * as it is in the database, and one row of it would otherwise stop every replica. It is reported once.
 */
export class TypedValues {
  private readonly report: ((found: InvalidStoredValue) => void) | undefined;
  private readonly readers = new WeakMap<Column, (value: unknown) => unknown>();
  private readonly reported = new Set<string>();

  constructor(report?: (found: InvalidStoredValue) => void) {
    this.report = report;
  }

  /** The value, or what stands for none. @param value undefined where it could not even be read. */
  read(found: InvalidStoredValue, column: Column, value: unknown): unknown {
    const read = this.readers.get(column) ?? readerOfType(column);
    this.readers.set(column, read);
    const typed = read(value);
    if (typed !== value && value !== null) this.note(found);
    return typed;
  }

  private note(found: InvalidStoredValue): void {
    const key = JSON.stringify([found.table, found.id, found.column]);
    if (this.report === undefined || this.reported.has(key)) return;
    if (this.reported.size >= mostReported) this.reported.clear();
    this.reported.add(key);
    this.report(found);
  }
}
