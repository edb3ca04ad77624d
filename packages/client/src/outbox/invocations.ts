import type { ActionResult, Problem, WireColumns } from '@koinon/core';
import { columnsFromWire } from '@koinon/core/internal';
import { keepFor } from './history.ts';
import type { Outbox } from './outbox.ts';
import { endOf, transactionsOf } from './transactions.ts';

// The calls of actions, and what became of them. Loaded for schemas with actions, when a call is answered or somebody asks.

/** Calls that are listed after they were applied, at most. */
const mostKept = 1_000;

/** The call of an action, whatever its schema is. */
export interface AnyInvocation {
  readonly id: string;
  readonly name: string;
  readonly input: Readonly<Record<string, unknown>>;
  readonly transaction: string;
  readonly invokedAt: string;
  readonly state: 'waiting' | 'sent' | 'applied' | 'refused';
  readonly result: Readonly<Record<string, unknown>> | null;
  readonly problems: readonly Problem[];
}

/** Keeps the results of the actions in transactions that the server has applied. Inside a transaction. */
export function noteResults(
  outbox: Outbox,
  sequences: readonly number[],
  results: readonly ActionResult[],
  now: number,
): void {
  const { database } = outbox;
  const byId = new Map(results.map(({ id, result }) => [id, result]));
  const calls = database.statement(
    `SELECT a.row_id AS id, a.table_name AS name, a.columns AS input, coalesce(t.id, t.origin) AS "transaction", t.edited_at
     FROM koinon_outbox a JOIN koinon_outbox t ON t.place = a.sequence WHERE a.place > ? AND a.place < ? AND a.kind = 'action' ORDER BY a.place`,
  );
  const keep = database.statement(
    `INSERT INTO koinon_invocation (id, name, input, transaction_id, invoked_at, applied_at, result) VALUES (?, ?, ?, ?, ?, ?, ?)
     ON CONFLICT (id) DO UPDATE SET transaction_id = excluded.transaction_id, applied_at = excluded.applied_at, result = excluded.result`,
  );
  let isNew = false;
  for (const sequence of sequences)
    for (const call of calls.all(sequence, endOf(outbox, sequence)) as unknown as Call[]) {
      const result = byId.get(call.id);
      const { id, name, input, transaction, edited_at: invokedAt } = call;
      const given = [id, name, input, transaction, invokedAt, now, result ? JSON.stringify(result) : null] as const;
      keep.run(...given);
      isNew = true;
    }
  if (isNew)
    database
      .statement(
        'DELETE FROM koinon_invocation WHERE place <= (SELECT max(place) FROM koinon_invocation) - ? OR applied_at < ?',
      )
      .run(mostKept, now - keepFor);
}

interface Call {
  readonly id: string;
  readonly name: string;
  readonly input: string;
  readonly transaction: string;
  readonly edited_at: number;
}

interface Applied extends Omit<Call, 'edited_at'> {
  readonly invoked_at: number;
  readonly result: string | null;
}

/** The calls that wait, those that were refused, and those that were applied in the last days, in the order in which they were made. */
export function invocationsIn(outbox: Outbox): readonly AnyInvocation[] {
  const { database, schema } = outbox;
  if (Object.keys(schema.actions).length === 0) return [];
  const valuesOf = (name: string, which: 'input' | 'result', wire: WireColumns) => {
    const action = Object.hasOwn(schema.actions, name) ? schema.actions[name] : undefined;
    return action === undefined ? wire : columnsFromWire(action[which], wire);
  };
  const states = { pending: 'waiting', attempted: 'sent', rejected: 'refused', confirmed: 'applied' } as const;
  const open = [...transactionsOf(outbox, 'pending', 'attempted', 'rejected')].flatMap(
    ({ id: transaction, actions, state, editedAt, problems }) =>
      actions.map(
        ({ id, name, input }): AnyInvocation => ({
          id,
          name,
          input: valuesOf(name, 'input', input),
          transaction,
          invokedAt: new Date(editedAt).toISOString(),
          state: states[state],
          result: null,
          problems,
        }),
      ),
  );
  const known = new Set(open.map(({ id }) => id));
  const text = `SELECT id, name, input, transaction_id AS "transaction", invoked_at, result FROM koinon_invocation ORDER BY place`;
  const applied = (database.statement(text).all() as unknown as Applied[])
    .filter(({ id }) => !known.has(id))
    .map(
      ({ id, name, input, transaction, invoked_at, result }): AnyInvocation => ({
        id,
        name,
        input: valuesOf(name, 'input', JSON.parse(input) as WireColumns),
        transaction,
        invokedAt: new Date(invoked_at).toISOString(),
        state: 'applied',
        result: result === null ? null : valuesOf(name, 'result', JSON.parse(result) as WireColumns),
        problems: [],
      }),
    );
  return [...applied, ...open];
}
