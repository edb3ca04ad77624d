import type {
  ActionCall,
  AppliedResponse,
  AssignedKey,
  Outcome,
  RowKey,
  Schema,
  Table,
  UploadedTransaction,
  WireChange,
} from '@koinon/core';
import { changeFromWire, changeProblems, isProvisionalId, rowKey, withKeyParts } from '@koinon/core/internal';
import { hasAssignedKeys } from '../store/mapping.ts';
import type { Store, StoreWriter } from '../store/store.ts';

// Tables whose keys the database gives: a device makes a row under a provisional id, which only it and the server know. What a device
// sends is translated before anything else looks at it, and what it is told is translated back.

/** Which of these origins of a user were applied, and the keys that its rows were given. */
export async function appliedBefore(
  store: Store,
  user: string | undefined,
  origins: readonly string[],
): Promise<AppliedResponse> {
  return store.read(async (reader) => {
    const receipts = await reader.appliedOrigins({ user, origins });
    if (receipts.length === 0) return { receipts };
    const ids = receipts.map(({ id }) => id);
    const assigned = hasAssignedKeys(store.schema) ? await reader.assignedKeys({ user, receipts: ids }) : [];
    const results = Object.keys(store.schema.actions).length > 0 ? await reader.results(ids) : [];
    return {
      receipts,
      ...(assigned.length > 0 ? { assigned } : {}),
      ...(results.length > 0 ? { results } : {}),
    };
  });
}

/** The keys of the rows of one uploaded transaction. */
export class Translation {
  private readonly schema: Schema;
  private readonly forward = new Map<string, string>();
  private readonly backward = new Map<string, string>();
  private readonly pairs: AssignedKey[] = [];
  /** The keys that were given just now. */
  readonly fresh: AssignedKey[] = [];

  private constructor(schema: Schema) {
    this.schema = schema;
  }

  /** The keys that are known of what a transaction of a user names. */
  static async of(
    schema: Schema,
    writer: StoreWriter,
    user: string | undefined,
    { changes, actions = [] }: UploadedTransaction,
  ): Promise<Translation> {
    const translation = new Translation(schema);
    if (!hasAssignedKeys(schema)) return translation;
    // Keys are numbers: what looks like one is nobody's provisional id.
    const inActions = actions.flatMap((call) => [
      ...call.refersTo.map(({ id }) => id),
      ...translation.inputReferences(call).map(([, , id]) => id),
    ]);
    const inChanges = changes.flatMap((change) => translation.named(change));
    const named = new Set([...inChanges, ...inActions].filter(isProvisionalId));
    if (named.size > 0)
      for (const pair of await writer.assignedKeys({ user, provisional: [...named] })) translation.add(pair);
    return translation;
  }

  /** The ids in a change that may be provisional. */
  private named(change: WireChange): string[] {
    const own = this.isAssigned(change.table) ? [change.id] : [];
    this.idOf(change, (_table, part) => {
      own.push(part);
      return part;
    });
    return [...own, ...this.references(change).map(([, , id]) => id)];
  }

  /** The id of a row, with other ids in the place of those that its key refers to. */
  private idOf({ table, id }: RowKey, replace: (table: string, part: string) => string): string {
    const definition = Object.hasOwn(this.schema.tables, table) ? this.schema.tables[table] : undefined;
    if (definition === undefined || definition.key.length === 0) return id;
    return withKeyParts(definition, id, (name, part) => {
      const target = definition.columns[name]?.target;
      return target !== undefined && this.isAssigned(target) ? replace(target, part) : part;
    });
  }

  private isAssigned(table: string | undefined): boolean {
    return (
      table !== undefined && Object.hasOwn(this.schema.tables, table) && this.schema.tables[table]?.assignedKey === true
    );
  }

  /** The references in a change to rows whose keys are given: column, table and id. */
  private references({ table, columns = {} }: WireChange): (readonly [column: string, table: string, id: string])[] {
    const definition = Object.hasOwn(this.schema.tables, table) ? this.schema.tables[table] : undefined;
    return Object.entries(columns).flatMap(([name, value]) => {
      const target =
        definition && Object.hasOwn(definition.columns, name) ? definition.columns[name]?.target : undefined;
      return target !== undefined && this.isAssigned(target) && typeof value === 'string'
        ? [[name, target, value]]
        : [];
    });
  }

  private add(pair: AssignedKey): void {
    const { table, provisional, id } = pair;
    this.pairs.push(pair);
    this.forward.set(rowKey({ table, id: provisional }), id);
    this.backward.set(rowKey({ table, id }), provisional);
  }

  /** A transaction with the keys that are known in the place of provisional ids. */
  apply(transaction: UploadedTransaction): UploadedTransaction {
    if (this.pairs.length === 0) return transaction;
    const { changes, actions } = transaction;
    return {
      ...transaction,
      changes: changes.map((change) => this.translated(change)),
      ...(actions && { actions: actions.map((call) => this.translatedCall(call)) }),
    };
  }

  private translated(change: WireChange): WireChange {
    const given = (table: string, id: string) => this.forward.get(rowKey({ table, id }));
    const id = given(change.table, change.id) ?? this.idOf(change, (table, part) => given(table, part) ?? part);
    // The answer names the row as it was sent.
    if (id !== change.id) this.backward.set(rowKey({ table: change.table, id }), change.id);
    const references = this.references(change).flatMap(([name, table, value]) => {
      const key = given(table, value);
      return key === undefined ? [] : [[name, key] as const];
    });
    if (references.length === 0) return id === change.id ? change : { ...change, id };
    return { ...change, id, columns: { ...change.columns, ...Object.fromEntries(references) } };
  }

  /** The references in the input of an action to rows whose keys are given: column, table and id. */
  private inputReferences({ name, input }: ActionCall): (readonly [column: string, table: string, id: string])[] {
    const action = Object.hasOwn(this.schema.actions, name) ? this.schema.actions[name] : undefined;
    return (action?.input.entries ?? []).flatMap(([column, { target }]) => {
      const value = input[column];
      return target !== undefined && this.isAssigned(target) && typeof value === 'string'
        ? [[column, target, value] as const]
        : [];
    });
  }

  private translatedCall(call: ActionCall): ActionCall {
    const given = (table: string, id: string) => this.forward.get(rowKey({ table, id })) ?? id;
    const references = this.inputReferences(call).map(([column, table, id]) => [column, given(table, id)]);
    return {
      ...call,
      input: { ...call.input, ...Object.fromEntries(references) },
      refersTo: call.refersTo.map(({ table, id }) => ({ table, id: given(table, id) })),
    };
  }

  /** Takes keys from the database for the new rows of a transaction, which are written under them. */
  async give(writer: StoreWriter, transaction: UploadedTransaction): Promise<UploadedTransaction> {
    const rows = new Map<string, Set<string>>();
    for (const { kind, table, id } of transaction.changes)
      if (kind === 'insert' && this.isAssigned(table) && isProvisionalId(id))
        rows.set(table, (rows.get(table) ?? new Set<string>()).add(id));
    // A number of the database does not come back: none is taken for what is refused anyway.
    const isSound = () =>
      transaction.changes.every((change) => {
        const table = this.schema.tables[change.table] as Table;
        // Columns that are kept from a user are filled in later.
        const problems = changeProblems(table, changeFromWire(this.schema, change));
        return problems.every(({ code }) => code === 'value-missing');
      });
    if (rows.size === 0 || !isSound()) return transaction;
    for (const [table, provisional] of rows) {
      const ids = await writer.newKeys(table, provisional.size);
      for (const [i, each] of [...provisional].entries()) {
        const pair = { table, provisional: each, id: ids[i] as string };
        this.add(pair);
        this.fresh.push(pair);
      }
    }
    return this.apply(transaction);
  }

  /** What is said of a row, by the id that the replica knows. */
  own<Row extends { readonly table?: string; readonly id?: string }>(row: Row): Row {
    const { table, id } = row;
    const known = table !== undefined && id !== undefined ? this.backward.get(rowKey({ table, id })) : undefined;
    return known === undefined ? row : { ...row, id: known };
  }

  /** An outcome in the words of the replica, which knows its own ids, and the keys with it. */
  back(outcome: Outcome): Outcome {
    if (this.pairs.length === 0) return outcome;
    const own = <Row extends { readonly table?: string; readonly id?: string }>(row: Row) => this.own(row);
    switch (outcome.outcome) {
      case 'applied':
        return {
          ...outcome,
          ...(outcome.values ? { values: outcome.values.map(own) } : {}),
          assigned: this.pairs,
        };
      case 'applied-before':
        return { ...outcome, assigned: this.pairs };
      case 'stale':
        return { ...outcome, rows: outcome.rows.map(own) };
      case 'rejected':
        return { ...outcome, problems: outcome.problems.map(own) };
      default:
        return outcome;
    }
  }
}
