import type { ActionResult, WireColumns } from '@koinon/core';
import type { NewReceipts } from '../receipts.ts';
import type { DueEffect, NewEffect, OpenEffect, TakingEffects } from '../store.ts';
import type { Prepared } from './driver.ts';
import { Retention } from './retention.ts';

/** The results of actions, and what is to be done after they are committed: only for schemas with actions. */
export const actionTables = `CREATE TABLE IF NOT EXISTS koinon_action_result (
  receipt TEXT NOT NULL,
  id TEXT NOT NULL,
  result TEXT NOT NULL,
  received_at TEXT NOT NULL,
  PRIMARY KEY (receipt, id)
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS koinon_effect (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  key TEXT NOT NULL,
  name TEXT NOT NULL,
  payload TEXT NOT NULL,
  added_at INTEGER NOT NULL,
  due_at INTEGER NOT NULL,
  attempts INTEGER NOT NULL DEFAULT 0,
  error TEXT
);
CREATE INDEX IF NOT EXISTS koinon_effect_due ON koinon_effect (due_at)`;

/** Tells whether a database has them. */
export function hasActionTables(database: Prepared): boolean {
  return database.get("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_effect'") !== undefined;
}

interface StoredEffect {
  readonly id: number;
  readonly key: string;
  readonly name: string;
  readonly payload: string;
  readonly attempts: number;
  readonly added_at: number;
  readonly due_at: number;
  readonly error: string | null;
}

/** The results of the actions in these transactions. */
export function resultsOf(database: Prepared, receipts: readonly string[]): ActionResult[] {
  return database
    .all<{ id: string; result: string }>(
      'SELECT id, result FROM koinon_action_result WHERE receipt IN (SELECT value FROM json_each(?)) ORDER BY id',
      JSON.stringify(receipts),
    )
    .map(({ id, result }) => ({ id, result: JSON.parse(result) as WireColumns }));
}

/** Effects that are not done. */
export function openEffectsOf(database: Prepared, most: number): OpenEffect[] {
  if (!hasActionTables(database)) return [];
  return database
    .all<StoredEffect>('SELECT * FROM koinon_effect ORDER BY id LIMIT ?', most)
    .map(({ added_at, due_at, attempts, error, ...effect }) => ({
      ...effect,
      attempt: attempts,
      addedAt: new Date(added_at).toISOString(),
      dueAt: new Date(due_at).toISOString(),
      error,
    }));
}

/** Results and effects, inside a transaction of the caller's. */
export class ActionTables extends Retention {
  protected insertResults(results: NewReceipts['results']): void {
    this.database.run(
      `INSERT INTO koinon_action_result SELECT value ->> 0, value ->> 1, value -> 2, ?1 FROM json_each(?2) WHERE true
       ON CONFLICT DO NOTHING`,
      new Date().toISOString(),
      JSON.stringify(results),
    );
  }

  async addEffects(effects: readonly NewEffect[]): Promise<void> {
    const text = `INSERT INTO koinon_effect (key, name, payload, added_at, due_at) VALUES (?1, ?2, ?3, ?4, ?4)`;
    for (const { key, name, payload } of effects) this.database.run(text, key, name, payload, Date.now());
  }

  async takeEffects(names: readonly string[], { most, now, until }: TakingEffects): Promise<DueEffect[]> {
    const found = this.database.all<StoredEffect>(
      `SELECT * FROM koinon_effect WHERE due_at <= ? AND name IN (SELECT value FROM json_each(?)) ORDER BY due_at, id LIMIT ?`,
      now,
      JSON.stringify(names),
      most,
    );
    for (const { id } of found)
      this.database.run('UPDATE koinon_effect SET attempts = attempts + 1, due_at = ? WHERE id = ?', until, id);
    return found.map(({ id, key, name, payload, attempts }) => ({ id, key, name, payload, attempt: attempts + 1 }));
  }

  async endEffect(id: number, how: 'done' | { readonly error: string; readonly dueAt: number }): Promise<void> {
    if (how === 'done') this.database.run('DELETE FROM koinon_effect WHERE id = ?', id);
    else this.database.run('UPDATE koinon_effect SET error = ?, due_at = ? WHERE id = ?', how.error, how.dueAt, id);
  }
}
