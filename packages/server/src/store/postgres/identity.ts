import { createHash, randomBytes } from 'node:crypto';
import type { ClientBase } from 'pg';
import { type CursorKey, CursorKeys, keyName, keysOf, keyText, newCursorKey } from '../../cursor/keys.ts';

/** The facts that a store keeps about itself. */
export interface Identity {
  readonly feed: string;
  readonly keys: CursorKeys;
}

/**
 * The feed's identity. Another database system, a system after a restore (its timeline is another one), a copy of the
 * database, and one whose tables came from a dump all differ in it: their transaction ids mean something else.
 */
export async function identityOf(client: ClientBase): Promise<Identity> {
  const source = await client.query<{ source: string }>(
    `SELECT concat_ws(' ', (SELECT system_identifier FROM pg_control_system()), (SELECT timeline_id FROM pg_control_checkpoint()),
       (SELECT oid FROM pg_database WHERE datname = current_database()), 'koinon.stamp'::regclass::oid) AS source`,
  );
  const digest = createHash('sha256')
    .update(source.rows[0]?.source ?? '')
    .digest('hex');
  const feed = `${digest.slice(0, 8)}-${digest.slice(8, 12)}-8${digest.slice(13, 16)}-8${digest.slice(17, 20)}-${digest.slice(20, 32)}`;
  await client.query("INSERT INTO koinon.meta VALUES ('secret', $1) ON CONFLICT DO NOTHING", [
    randomBytes(32).toString('base64url'),
  ]);
  const { rows } = await client.query<{ name: string; value: string }>(
    "SELECT name, value FROM koinon.meta WHERE name IN ('feed', 'secret')",
  );
  const noted = new Map(rows.map(({ name, value }) => [name, value]));
  if (noted.get('feed') !== feed) {
    await client.query(
      "INSERT INTO koinon.meta VALUES ('feed', $1) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
      [feed],
    );
    // Stamps that were written under another identity carry transaction ids of that one.
    if (noted.has('feed')) for (const statement of renewStamps) await client.query(statement);
  }
  if ((await storedKeys(client)).length === 0) await renewKey(client);
  return { feed, keys: new CursorKeys(noted.get('secret') as string, await storedKeys(client)) };
}

const renewStamps = [
  `UPDATE koinon.stamp SET position = pg_current_xact_id(), born = pg_current_xact_id(), row_position = pg_current_xact_id(),
     row_receipt = NULL, columns = '{}', past = '{}'`,
  'UPDATE koinon.filterable SET position = pg_current_xact_id()',
  'DELETE FROM koinon.noted_time',
  "UPDATE koinon.horizon SET position = '0', at = 0",
];

/** The same as it was noted when the database was served last; of one that never was, nothing. */
export async function notedIdentity(client: ClientBase): Promise<Identity> {
  const { rows } = await client.query<{ name: string; value: string }>('SELECT name, value FROM koinon.meta');
  const noted = new Map(rows.map(({ name, value }) => [name, value]));
  return { feed: noted.get('feed') ?? '', keys: new CursorKeys(noted.get('secret') ?? '', keysOf(rows)) };
}

/** Makes another key for cursors; returns its number. */
export async function renewKey(client: ClientBase): Promise<number> {
  const key = newCursorKey(Math.max(0, ...(await storedKeys(client)).map(({ number }) => number)) + 1);
  await client.query('INSERT INTO koinon.meta VALUES ($1, $2)', [keyName(key.number), keyText(key)]);
  return key.number;
}

/** The keys for cursors that a database keeps. */
export async function storedKeys(client: ClientBase): Promise<CursorKey[]> {
  const { rows } = await client.query<{ name: string; value: string }>(
    "SELECT name, value FROM koinon.meta WHERE name LIKE 'cursor key %'",
  );
  return keysOf(rows);
}
