import { applyChange, applyOperation, type Change, type Operation, wholeRow } from '../change/change.ts';
import { type Column, isOperatedOn } from '../table/column.ts';
import type { AnyRow, Table } from '../table/table.ts';
import { sameValue } from '../values/compare.ts';
import { changedColumns, type Disagreement } from './conflict.ts';
import { decide } from './decide.ts';

/** The values that a change in conflict was typed over, by column; under null the row, where all of it is in conflict. */
export type TypedOver = ReadonlyMap<string | null, unknown>;

/** A change of this device, as the rebase gets it. */
export interface OwnChange {
  readonly change: Change;
  /** Tells whether it is replayed as it is: the server has applied it, or is being asked to. */
  readonly isFixed: boolean;
  /** When it was made, in milliseconds since 1970, by the server's clock. */
  readonly editedAt: number;
  /** For a change in conflict: as an earlier rebase returned it. */
  readonly typedOver?: TypedOver | undefined;
  /** For a change that was typed on top of predictions: the values that they showed. It is not merged before these are gone. */
  readonly predictedOver?: TypedOver | undefined;
}

/** A change that an action is expected to make: it is shown, and neither sent nor merged. */
export interface Predicted {
  readonly change: Change;
  /** How many own changes come before it. */
  readonly after: number;
}

/** The facts about the server's row besides its values. */
export interface RemoteRow {
  /** When a column was last edited there, in milliseconds since 1970; undefined where that is not known. */
  readonly editedAt: (column: string) => number | undefined;
  /** The server's clock, in milliseconds since 1970: no edit was made later. */
  readonly time: number;
  /** The last values of a row that is deleted there, where they are known: an edit that survives is laid over them. */
  readonly image: AnyRow | null;
}

/** A row whose base has not moved. */
export const unmoved: RemoteRow = {
  editedAt: () => undefined,
  time: Number.POSITIVE_INFINITY,
  image: null,
};

/** A change after the rebase. */
export interface RebasedChange {
  /** Undefined where nothing of it is left to do. */
  readonly change: Change | undefined;
  /** Not empty: it is in conflict, and holds its transaction. */
  readonly typedOver: TypedOver;
  /** Not empty: it lies over predictions, and waits for their action. Undefined: it is as it was. */
  readonly predictedOver?: TypedOver;
}

/** A column, or a row, that no rule decides. */
export interface OpenConflict extends Disagreement {
  /** Why the column's rule could not decide; null where the rule is to ask. */
  readonly reason: string | null;
  /** When the local value was typed. */
  readonly localAt: number;
}

/** The result of a rebase. */
export interface Rebased {
  /** The changes, in the order in which they were given. */
  readonly changes: readonly RebasedChange[];
  /** The row as the device shows it; null for none. */
  readonly row: AnyRow | null;
  readonly conflicts: readonly OpenConflict[];
}

const nothing: TypedOver = new Map();

/**
 * Moves a row's own changes from one base to another. They are replayed in order, each merged by itself: what the row was
 * before it on the old base, what it made of that, and what the row is before it on the new base. A pure function.
 *
 * Every prefix of the changes, laid over the new base, is what the server will hold after applying just that prefix. A
 * column that no own change names is the new base's in every prefix. A second rebase onto the same base changes nothing.
 *
 * @param base the row that the changes lay over; null: none.
 * @param next the row that they are to lie over; null: none.
 * @param predicted the changes that actions are expected to make, in order: replayed into the row that is shown, and nothing else.
 */
export function rebase(
  table: Table,
  own: readonly OwnChange[],
  base: AnyRow | null,
  next: AnyRow | null,
  remote: RemoteRow,
  predicted: readonly Predicted[] = [],
): Rebased {
  let [was, now, server] = [base, next, next];
  const screen = new Screen(table, next, predicted);
  const changes: RebasedChange[] = [];
  const open = new Map<string | null, { base: unknown; local: unknown; reason: string | null; localAt: number }>();
  for (const [i, { change: given, isFixed, editedAt, typedOver = nothing, predictedOver = nothing }] of own.entries()) {
    screen.predict(i);
    const [change, waiting] = isFixed ? [given, undefined] : screen.parted(given, predictedOver);
    if (isFixed || change === undefined) {
      was = applyChange(table, was, given);
      now = applyChange(table, now, given);
      if (isFixed) server = applyChange(table, server, given);
      changes.push({ change: given, typedOver: nothing, predictedOver: isFixed ? nothing : predictedOver });
      screen.show(given, now);
      continue;
    }
    const before = withValues(table, change.id, withValues(table, change.id, was, predictedOver), typedOver);
    const localAt = Math.min(editedAt, remote.time);
    const merged = mergeChange(table, before, change, now, { ...remote, localAt });
    const whole = waiting === undefined ? merged.change : joinedWith(merged.change, waiting);
    changes.push({
      change: whole,
      typedOver: merged.typedOver,
      predictedOver: waiting === undefined ? nothing : predictedOver,
    });
    was = applyChange(table, before, given);
    now = waiting === undefined ? merged.row : applyChange(table, merged.row, waiting);
    screen.show(whole, now);
    // A conflict shows the last own value, whichever change it began with.
    for (const [column, conflict] of open) {
      const hasNewer = column === null || (change.kind !== 'delete' && Object.hasOwn(change.columns, column));
      if (!hasNewer || merged.typedOver.has(column)) continue;
      conflict.local = column === null ? now : (now?.[column] ?? null);
      conflict.localAt = localAt;
    }
    for (const [column, value] of merged.typedOver) {
      const local = column === null ? now : change.kind === 'delete' ? null : change.columns[column];
      open.set(column, {
        base: open.get(column)?.base ?? value,
        local,
        reason: merged.reasons.get(column) ?? null,
        localAt,
      });
    }
  }
  const conflicts = [...open].map(([column, { base, local, reason, localAt }]) => ({
    column,
    base,
    local,
    remote: column === null ? server : (server?.[column] ?? null),
    reason,
    localAt,
  }));
  screen.predict(own.length);
  return { changes, row: predicted.length === 0 ? now : screen.row, conflicts };
}

type Update = Extract<Change, { kind: 'update' }>;

/** The row that is shown: with the predictions at their places. */
class Screen {
  row: AnyRow | null;
  private readonly table: Table;
  private readonly predicted: readonly Predicted[];
  private next = 0;
  /** The columns that predictions have given so far; `whole` where one has made the row, or taken it away. */
  private columns = new Set<string>();
  private isWhole = false;

  constructor(table: Table, row: AnyRow | null, predicted: readonly Predicted[]) {
    this.table = table;
    this.row = row;
    this.predicted = predicted;
  }

  /** Replays the predictions that come before the own change of that number. */
  predict(before: number): void {
    for (let each = this.predicted[this.next]; each && each.after <= before; each = this.predicted[++this.next]) {
      const { change } = each;
      this.row = applyChange(this.table, this.row, change);
      if (change.kind === 'update') for (const name of Object.keys(change.columns)) this.columns.add(name);
      else this.isWhole = true;
    }
  }

  /**
   * The parts of a change that was typed over predictions: what can be merged, and what waits for their action. Undefined in the place of
   * the first where all of it waits.
   */
  parted(change: Change, over: TypedOver): [change: Change | undefined, waiting: Update | undefined] {
    if (over.size === 0) return [change, undefined];
    if (this.isWhole || (change.kind !== 'update' && this.next > 0)) return [undefined, undefined];
    if (change.kind !== 'update') return [change, undefined];
    const waits = (name: string) => over.has(name) && this.columns.has(name);
    const some = (wanted: boolean) =>
      Object.fromEntries(Object.entries(change.columns).filter(([name]) => waits(name) === wanted));
    const waiting = some(true);
    if (Object.keys(waiting).length === 0) return [change, undefined];
    return [
      { ...change, columns: some(false) },
      { ...change, columns: waiting, operations: {} },
    ];
  }

  /** Shows a change of this device's. @param row the row after it without predictions. */
  show(change: Change | undefined, row: AnyRow | null): void {
    if (this.predicted.length === 0 || change === undefined) return;
    this.row = this.row === null ? row : applyChange(this.table, this.row, change);
  }
}

/** A merged change with the columns that were not merged. */
function joinedWith(change: Change | undefined, waiting: Update): Change {
  if (change === undefined || change.kind === 'delete') return waiting;
  return { ...change, columns: { ...change.columns, ...waiting.columns } };
}

/** The row that a change was typed over: the one before it, with what stood there when its conflict began. */
function withValues(table: Table, id: string, row: AnyRow | null, typedOver: TypedOver): AnyRow | null {
  if (typedOver.size === 0) return row;
  const whole = typedOver.has(null) ? (typedOver.get(null) as AnyRow | null) : row;
  if (whole === null) return null;
  const columns: Record<string, unknown> = { ...whole };
  for (const [column, value] of typedOver) if (column !== null) columns[column] = value;
  return wholeRow(table, id, columns);
}

interface MergedChange extends Omit<RebasedChange, 'predictedOver'> {
  readonly row: AnyRow | null;
  readonly reasons: ReadonlyMap<string | null, string | null>;
}

interface Times extends RemoteRow {
  readonly localAt: number;
}

const decided = (change: Change | undefined, row: AnyRow | null): MergedChange => ({
  change,
  row,
  typedOver: nothing,
  reasons: new Map(),
});

/** One column or row that is left to a person: the change stays as it was typed. */
const asked = (column: null, base: unknown, change: Change, row: AnyRow | null): MergedChange => ({
  change,
  row,
  typedOver: new Map([[column, base]]),
  reasons: new Map([[column, null]]),
});

/**
 * Merges one change.
 *
 * @param was the row that it was typed over. @param now the row that it is to be laid over.
 */
function mergeChange(table: Table, was: AnyRow | null, change: Change, now: AnyRow | null, times: Times): MergedChange {
  if (change.kind === 'delete') return mergeDelete(table, was, change, now);
  if (now === null && change.kind === 'insert') return decided(change, wholeRow(table, change.id, change.columns));
  if (now === null) return mergeIntoNone(table, was, change as Update, times);
  return mergeColumns(table, change.kind === 'insert' ? null : was, change, now, times);
}

function mergeDelete(table: Table, was: AnyRow | null, change: Change, now: AnyRow | null): MergedChange {
  // Deleted on both sides.
  if (now === null) return decided(undefined, null);
  const isUntouched = was !== null && changedColumns(table, was, now).length === 0;
  if (isUntouched || table.deletion === 'deletion wins') return decided(change, null);
  return table.deletion === 'ask' ? asked(null, was, change, null) : decided(undefined, now);
}

/** An edit of a row that the server does not have. */
function mergeIntoNone(table: Table, was: AnyRow | null, change: Update, { image }: Times): MergedChange {
  // The row has left this device: what was typed into it stays, until a person takes it back or the row returns.
  if (was === null) return decided(change, null);
  if (table.deletion === 'deletion wins') return decided(undefined, null);
  const edited = applyChange(table, was, change);
  if (table.deletion === 'ask') return asked(null, was, change, edited);
  const { id, ...columns } = applyChange(table, image ?? was, change) as AnyRow;
  return decided({ kind: 'insert', table: change.table, id, columns }, wholeRow(table, id, columns));
}

/** A change of a row that is there. A row that was made on both sides has no values that it was typed over. */
function mergeColumns(
  table: Table,
  was: AnyRow | null,
  change: Exclude<Change, { kind: 'delete' }>,
  now: AnyRow,
  times: Times,
): MergedChange {
  const row: Record<string, unknown> = { ...now };
  const columns: Record<string, unknown> = {};
  const typedOver = new Map<string | null, unknown>();
  const reasons = new Map<string | null, string | null>();
  const operations: Record<string, Operation> = change.kind === 'update' ? { ...change.operations } : {};
  for (const [name, local] of Object.entries(change.columns)) {
    const remote = now[name] ?? null;
    // Agreement; and of a row that was made on both sides, a column that was filled in there alone.
    if (sameValue(local, remote) || (change.kind === 'insert' && local === null)) continue;
    const column = table.columns[name] as Column;
    // A new row begins to count where every row does: what others have counted in it stands beside that.
    if (change.kind === 'insert' && isOperatedOn(column) && sameValue(local, column.default)) continue;
    if (change.kind === 'insert' && column.type === 'set') {
      const operation = { include: local as readonly string[], exclude: [] };
      if (!sameValue(applyOperation(remote, operation), remote)) operations[name] = operation;
      continue;
    }
    const base = was?.[name] ?? null;
    // A change that changes nothing has nothing to say against the other side.
    if (was !== null && sameValue(base, local)) continue;
    if (was !== null && sameValue(base, remote)) {
      columns[name] = row[name] = local;
      continue;
    }
    const decision = decide(table, column, { base, local, remote }, times.localAt, times.editedAt(name));
    if ('reason' in decision) {
      columns[name] = row[name] = local;
      typedOver.set(name, base);
      reasons.set(name, decision.reason);
    } else if (!sameValue(decision.value, remote)) columns[name] = row[name] = decision.value;
  }
  for (const [name, operation] of Object.entries(operations)) row[name] = applyOperation(row[name], operation);
  const { table: tableName, id } = change;
  const isNothing = Object.keys(columns).length === 0 && Object.keys(operations).length === 0;
  return {
    change: isNothing ? undefined : { kind: 'update', table: tableName, id, columns, operations },
    row: wholeRow(table, id, row),
    typedOver,
    reasons,
  };
}
