import type { AnyRow, Change, RowKey } from '@koinon/core';
import type { TypedOver } from '@koinon/core/internal';
import type { TransactionState } from './outbox.ts';

/** A change that an action is expected to make: it is shown until the feed brings what the action has done. */
export interface Prediction {
  /** The place of its action in the outbox. */
  readonly action: number;
  /** The place of the transaction. */
  readonly sequence: number;
  /** The id of the transaction. */
  readonly transaction: string;
  readonly state: TransactionState;
  readonly change: Change;
}

/** The predictions of the actions in an outbox, and what was typed on top of them. */
export interface Predictions {
  /** Tells whether an action is expected to change a row. */
  has(table: string, id: string): boolean;
  /** Those of a row, in order. */
  of(table: string, id: string): readonly Prediction[];
  /** The rows that the actions of a transaction, or one of them, are expected to change. */
  rowsOf(sequence: number, action?: number): readonly RowKey[];
  /** The rows that actions are expected to change. */
  rows(): readonly RowKey[];
  /** The changes of one action, in order. */
  changesOf(action: number): readonly Change[];
  add(sequence: number, action: number, change: Change): void;
  /** Drops those of a transaction, with what is known of its own changes that were typed on top of others. */
  drop(sequence: number): void;
  /** Drops those of a row: all, or a transaction's. */
  dropRow(table: string, id: string, sequence?: number): void;
  /** Drops all, and the calls that were applied. */
  clear(): void;
  /** Gives rows of a table other ids. */
  renameRows(table: string, renamed: ReadonlyMap<string, string>): void;
  /** Gives what refers to rows by a column their new ids. */
  renameReferences(table: string, column: string, renamed: ReadonlyMap<string, string>): void;
  /** Gives the rows that a value of an action's input names their new ids, in calls that were applied. */
  renameInputs(action: string, column: string, renamed: ReadonlyMap<string, string>): void;
  /** Reads them anew when next asked. */
  forget(): void;
  /** The predicted values that a change in the outbox was typed on top of; undefined for none. */
  overOf(change: { readonly place: number; readonly change: Change }): TypedOver | undefined;
  /** Notes them; none at all: it waits for no action any more. */
  setOver(sequence: number, place: number, table: string, over: TypedOver): void;
  /** Tells whether a transaction was typed on top of predictions, and waits for their action. */
  isOver(sequence: number): boolean;
  /** The predicted values that a new change is typed on top of, and the transactions whose predictions it touches. @param before the row that is shown. */
  typedOver(change: Change, before: AnyRow | null): { readonly over: TypedOver; readonly by: readonly number[] };
}

const none: TypedOver = new Map();

/** None: the schema has no actions. */
export const noPredictions: Predictions = {
  has: () => false,
  of: () => [],
  rowsOf: () => [],
  rows: () => [],
  changesOf: () => [],
  add: () => undefined,
  drop: () => undefined,
  dropRow: () => undefined,
  clear: () => undefined,
  renameRows: () => undefined,
  renameReferences: () => undefined,
  renameInputs: () => undefined,
  forget: () => undefined,
  overOf: () => undefined,
  setOver: () => undefined,
  isOver: () => false,
  typedOver: () => ({ over: none, by: [] }),
};
