import type { ActionResult, Problem, WireColumns } from '@koinon/core';
import { columnsFromWire } from '@koinon/core/internal';
import { keepFor } from './history.ts';
import type { Outbox } from './outbox.ts';
import { transactionsOf } from './transactions.ts';

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
  const byId = new Map(results.map(({ id, result }) => [id, JSON.stringify(result)]));
  const next =
    "(SELECT place FROM koinon_outbox WHERE place > t.place AND kind = 'transaction' ORDER BY place LIMIT 1)";
  const calls = database
    .statement(
      `SELECT a.row_id AS id, a.table_name AS name, a.columns AS input, coalesce(t.id, t.origin) AS "transaction", t.edited_at AS invoked_at
       FROM json_each(?) s CROSS JOIN koinon_outbox t ON t.place = s.value
       CROSS JOIN koinon_outbox a ON a.place > t.place AND a.place < coalesce(${next}, 9223372036854775807)
       WHERE a.kind = 'action' ORDER BY a.place`,
    )
    .all(JSON.stringify(sequences)) as unknown as Call[];
  if (calls.length === 0) return;
  const kept = calls.map(({ id, name, input, transaction, invoked_at: at }) => [
    ...[id, name, input, transaction, at],
    byId.get(id) ?? null,
  ]);
  database
    .statement(
      `INSERT INTO koinon_invocation (id, name, input, transaction_id, invoked_at, applied_at, result)
       SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, ?2, value ->> 5 FROM json_each(?1) WHERE true
       ON CONFLICT (id) DO UPDATE SET transaction_id = excluded.transaction_id, applied_at = excluded.applied_at, result = excluded.result`,
    )
    .run(JSON.stringify(kept), now);
  database
    .statement(
      // They are in the order in which they were applied: without looking at all of them.
      `DELETE FROM koinon_invocation WHERE place <= (SELECT max(place) FROM koinon_invocation) - ?
       OR place < (SELECT place FROM koinon_invocation WHERE applied_at >= ? ORDER BY place LIMIT 1)`,
    )
    .run(mostKept, now - keepFor);
}

interface Call {
  readonly id: string;
  readonly name: string;
  readonly input: string;
  readonly transaction: string;
  readonly invoked_at: number;
}

interface Applied extends Call {
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
