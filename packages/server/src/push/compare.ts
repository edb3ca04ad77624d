import type { Change, Problem, RowKey, StaleRow, Table } from '@koinon/core';
import { noSuchRowThere, rowKey, serverProblemOf } from '@koinon/core/internal';
import type { Stamp, Written } from '../store/store.ts';

/** A row as one transaction finds it, with what the transaction itself has done to it so far. */
interface Found {
  /** Tells whether it was ever there. */
  known: boolean;
  exists: boolean;
  /** The insert, or the delete of a row that is gone. */
  row: Written;
  columns: Map<string, Written>;
}

const never: Written = { covered: true, receipt: null };

/**
 * The compare-and-set of a transaction, column by column: a column may be written if its last write is covered by the
 * base or was made by one of the replica's own named transactions. Anything else was written by others meanwhile: the
 * transaction is stale, and nothing of it may be applied.
 */
export class Comparison {
  readonly stale: StaleRow[] = [];
  readonly problems: Problem[] = [];
  private readonly rows = new Map<string, Found>();
  private readonly own: ReadonlySet<string>;
  private readonly self: Written;
  private readonly withheld: (table: string) => ReadonlySet<string> | undefined;

  constructor(
    keys: readonly RowKey[],
    stamps: readonly (Stamp | undefined)[],
    own: ReadonlySet<string>,
    receipt: string,
    withheld: (table: string) => ReadonlySet<string> | undefined = () => undefined,
  ) {
    this.withheld = withheld;
    this.own = own;
    this.self = { covered: true, receipt };
    keys.forEach(({ table, id }, i) => {
      const stamp = stamps[i];
      const found: Found = stamp
        ? { known: true, exists: !stamp.deleted, row: stamp.row, columns: new Map(stamp.columns) }
        : { known: false, exists: false, row: never, columns: new Map() };
      this.rows.set(rowKey({ table, id }), found);
    });
  }

  /** Compares one change, and counts it as done for those of the same transaction that follow. */
  add(table: Table, change: Change): void {
    const found = this.rows.get(rowKey(change)) as Found;
    if (change.kind === 'insert') this.insert(table, change, found);
    else if (!found.known) this.missing(table, change);
    else if (change.kind === 'delete') this.delete(table, change, found);
    else this.update(table, change, found);
  }

  private insert(definition: Table, change: Change, found: Found): void {
    const { table, id } = change;
    const named = { tables: { [table]: definition } };
    if (!this.isFree(found.row)) this.stale.push({ table, id, columns: [] });
    else if (found.exists)
      // The replica knew of the row: telling it that it is stale would send it round for ever.
      this.problems.push(serverProblemOf(named, 'duplicate-id', { table, id, column: 'id' }, 'duplicate-id'));
    found.known = true;
    found.exists = true;
    found.row = this.self;
    found.columns.clear();
  }

  private update(definition: Table, change: Extract<Change, { kind: 'update' }>, found: Found): void {
    const { table, id } = change;
    if (!found.exists) {
      if (this.isFree(found.row)) this.missing(definition, change);
      else this.stale.push({ table, id, columns: [] });
      return;
    }
    // Counters and sets carry operations, which hold whatever others did: they are not compared.
    const overtaken = Object.keys(change.columns).filter((name) => !this.isFree(found.columns.get(name) ?? found.row));
    if (overtaken.length > 0) this.stale.push({ table, id, columns: overtaken });
    for (const name of Object.keys(change.columns)) found.columns.set(name, this.self);
  }

  private delete(table: Table, change: Change, found: Found): void {
    // Deleted by others as well: both sides agree.
    if (!found.exists) return;
    // A column that the user does not get he cannot have meant to keep.
    const seen = Object.keys(table.columns).filter((name) => !this.withheld(change.table)?.has(name));
    const overtaken = seen.filter((name) => !this.isFree(found.columns.get(name) ?? found.row));
    if (overtaken.length > 0) this.stale.push({ table: change.table, id: change.id, columns: overtaken });
    found.exists = false;
    found.row = this.self;
    found.columns.clear();
  }

  private missing(definition: Table, { table, id }: Change): void {
    this.problems.push(noSuchRowThere({ tables: { [table]: definition } }, { table, id }));
  }

  private isFree(written: Written): boolean {
    return written.covered || (written.receipt !== null && this.own.has(written.receipt));
  }
}
