import type {
  ActionName,
  Conflict,
  Operations,
  Problem,
  ResultOf,
  Row,
  Schema,
  TableName,
  TakenInput,
  TrashedRow,
  Where,
  WireColumns,
} from '@koinon/core';
import type { StorageRoom } from '../host/host.ts';
import type { InvalidStoredValue } from '../sync/stored-values.ts';
import type { Invoked } from './data-api.ts';

// What a replica lists of itself: what waits, what was refused or is to be decided, what is held, and where the data is.

/** A column, or a row, in conflict: by table, so that its table and id go into `resolve`. */
export type ConflictOf<S extends Schema> = {
  [T in TableName<S>]: Conflict & { readonly table: T; readonly column: Extract<keyof Row<S, T>, string> | null };
}[TableName<S>];

/** A rejected transaction, with the server's reasons. */
export interface Rejection<Name extends string = string> {
  /** The id that `discard` and `resend` take. */
  readonly transaction: string;
  /** All that it does. */
  readonly rows: readonly {
    readonly table: Name;
    readonly id: string;
    /** The columns that the person gave; none for a delete. */
    readonly columns: Readonly<Record<string, unknown>>;
    /** The operations on counters and sets. */
    readonly operations: Operations;
  }[];
  /** The actions in it, with their inputs as they are sent. */
  readonly actions: readonly { readonly id: string; readonly name: string; readonly input: WireColumns }[];
  readonly problems: readonly Problem[];
}

/** A deleted row that the server keeps. */
export interface DeletedRow extends Omit<TrashedRow, 'columns'> {
  /** The columns as they were last. */
  readonly columns: Readonly<Record<string, unknown>>;
}

/** The state of a replica. */
export interface ReplicaStatus {
  readonly replicaId: string;
  /** Whose it is, as the server last said; null where it knows no users, or was never asked. */
  readonly user: string | null;
  /** `memory` does not outlive the process. */
  readonly storage: 'file' | 'memory';
  /** Transactions the server has not confirmed. */
  readonly pending: number;
  /** Rows with a conflict. */
  readonly conflicted: number;
  /** Transactions the server refused. */
  readonly rejected: number;
  /** The feed's position this replica has reached; null before its first pull. */
  readonly position: number | null;
  /** When the last sync step ended well, RFC 3339. */
  readonly syncedAt: string | null;
  /** The process that syncs the file just now; null if none does. */
  readonly syncOwner: string | null;
  /** Values that the server sent and that are not of their column's type: the column is empty here. The last hundred. */
  readonly invalidValues: readonly InvalidStoredValue[];
}

/** The place of a replica's data, and how much room there is. Sizes are in bytes; null where the platform cannot tell. */
export interface StorageReport extends StorageRoom {
  /** `memory` does not outlive the process or tab. */
  readonly kind: 'file' | 'memory';
  /** Why the data is in memory, where a file was wanted. */
  readonly problem: string | null;
  /** The room that the replica itself takes. */
  readonly size: number;
}

/** A call of an action, and what became of it. */
export interface Invocation<Name extends string = string, Input = unknown, Result = unknown> extends Invoked<Name> {
  /** The values that it was given. */
  readonly input: Input;
  /** The transaction it is in: `discard` and `resend` take its id. */
  readonly transaction: string;
  /** When it was made, RFC 3339. */
  readonly invokedAt: string;
  /** `waiting`: not sent, or not run by the server now; `sent`: its outcome is not known; `applied`; `refused`: see the problems. */
  readonly state: 'waiting' | 'sent' | 'applied' | 'refused';
  /** The values that the server's handler returned; null before that. */
  readonly result: Result | null;
  /** Why it was refused: `column` names the value of the input. */
  readonly problems: readonly Problem[];
}

/** A call of an action of a schema. */
export type InvocationOf<S extends Schema> = {
  [N in ActionName<S>]: Invocation<N, TakenInput<S, N>, ResultOf<S, N>>;
}[ActionName<S>];

/** Rows that the app asks to have on this device, beside those that it always asks for. */
export interface Holding {
  /** Its name. */
  readonly id: string;
  readonly from: string;
  /** The condition; null for all rows of the table. */
  readonly where: Readonly<Record<string, unknown>> | null;
  /** `arriving`: not all of its rows are here; `leaving`: it was let go, and its rows go once nothing of them is unsent. */
  readonly state: 'arriving' | 'here' | 'leaving';
  /** Its rows that are on this device. */
  readonly rows: number;
}

/** Rows of a table that are asked for: all, or those that fulfil a condition over filterable columns. */
export interface HeldRows<S extends Schema, T extends TableName<S>> {
  readonly from: T;
  readonly where?: Where<Row<S, T>>;
}
