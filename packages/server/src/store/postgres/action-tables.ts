import type { ActionResult, WireColumns } from '@koinon/core';
import type { ClientBase } from 'pg';
import type { NewReceipts } from '../receipts.ts';
import type { DueEffect, NewEffect, OpenEffect, TakingEffects } from '../store.ts';
import { Retention } from './retention.ts';

/** The results of actions, and what is to be done after they are committed: only for schemas with actions. */
export const actionTables = [
  `CREATE TABLE IF NOT EXISTS koinon.action_result (
  receipt text NOT NULL,
  id text NOT NULL,
  result json NOT NULL,
  received_at timestamp with time zone NOT NULL,
  PRIMARY KEY (receipt, id)
)`,
  `CREATE TABLE IF NOT EXISTS koinon.effect (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  key text NOT NULL,
  name text NOT NULL,
  payload text NOT NULL,
  added_at bigint NOT NULL,
  due_at bigint NOT NULL,
  attempts integer NOT NULL DEFAULT 0,
  error text
)`,
  'CREATE INDEX IF NOT EXISTS effect_due ON koinon.effect (due_at)',
];

/** Tells whether a database has them. */
export async function hasActionTables(client: ClientBase): Promise<boolean> {
  const { rows } = await client.query<{ there: string | null }>("SELECT to_regclass('koinon.effect') AS there");
  return rows[0]?.there !== null;
}

/** The results of the actions in these transactions. */
export async function resultsOf(client: ClientBase, receipts: readonly string[]): Promise<ActionResult[]> {
  const { rows } = await client.query<{ id: string; result: WireColumns }>(
    'SELECT id, result FROM koinon.action_result WHERE receipt = ANY($1) ORDER BY id',
    [receipts],
  );
  return rows;
}

interface StoredEffect {
  readonly id: string;
  readonly key: string;
  readonly name: string;
  readonly payload: string;
  readonly attempts: number;
  readonly added_at: string;
  readonly due_at: string;
  readonly error: string | null;
}

/** Effects that are not done. */
export async function openEffectsOf(client: ClientBase, most: number): Promise<OpenEffect[]> {
  if (!(await hasActionTables(client))) return [];
  const { rows } = await client.query<StoredEffect>('SELECT * FROM koinon.effect ORDER BY id LIMIT $1', [most]);
  return rows.map(({ id, added_at, due_at, attempts, error, ...effect }) => ({
    ...effect,
    id: Number(id),
    attempt: attempts,
    addedAt: new Date(Number(added_at)).toISOString(),
    dueAt: new Date(Number(due_at)).toISOString(),
    error,
  }));
}

/** Results and effects, inside a transaction of the caller's. */
export class ActionTables extends Retention {
  protected async insertResults(results: NewReceipts['results']): Promise<void> {
    await this.client.query(
      `INSERT INTO koinon.action_result SELECT r ->> 0, r ->> 1, r -> 2, now() FROM json_array_elements($1) r
       ON CONFLICT DO NOTHING`,
      [JSON.stringify(results)],
    );
  }

  async addEffects(effects: readonly NewEffect[]): Promise<void> {
    for (const { key, name, payload } of effects)
      await this.client.query(
        'INSERT INTO koinon.effect (key, name, payload, added_at, due_at) VALUES ($1, $2, $3, $4, $4)',
        [key, name, payload, Date.now()],
      );
  }

  async takeEffects(names: readonly string[], { most, now, until }: TakingEffects): Promise<DueEffect[]> {
    const { rows } = await this.client.query<StoredEffect>(
      `UPDATE koinon.effect SET attempts = attempts + 1, due_at = $4 WHERE id IN (SELECT id FROM koinon.effect
         WHERE due_at <= $1 AND name = ANY($2) ORDER BY due_at, id LIMIT $3 FOR UPDATE SKIP LOCKED) RETURNING *`,
      [now, names, most, until],
    );
    return rows.map(({ id, key, name, payload, attempts }) => ({
      id: Number(id),
      key,
      name,
      payload,
      attempt: attempts,
    }));
  }

  async endEffect(id: number, how: 'done' | { readonly error: string; readonly dueAt: number }): Promise<void> {
    if (how === 'done') await this.client.query('DELETE FROM koinon.effect WHERE id = $1', [id]);
    else
      await this.client.query('UPDATE koinon.effect SET error = $2, due_at = $3 WHERE id = $1', [
        id,
        how.error,
        how.dueAt,
      ]);
  }
}
