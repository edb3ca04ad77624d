import { randomBytes, randomUUID } from 'node:crypto';
import { type CursorKey, CursorKeys, keyName, keysOf, keyText, newCursorKey } from '../../cursor/keys.ts';
import type { Prepared } from './driver.ts';

/** The facts that a store keeps about itself. */
export interface Identity {
  readonly feed: string;
  readonly keys: CursorKeys;
}

/** The facts that a store keeps about itself, made where they are not there yet. It begins another epoch of its feed. */
export function beginEpoch(database: Prepared): Identity {
  const feed = metaOr(database, 'feed', () => randomUUID());
  const root = metaOr(database, 'secret', () => randomBytes(32).toString('base64url'));
  if (storedKeys(database).length === 0) renewKey(database);
  database.run('INSERT INTO koinon_epoch (id, position) SELECT ?, position FROM koinon_feed', randomUUID().slice(0, 8));
  return { feed, keys: new CursorKeys(root, storedKeys(database)) };
}

/** The facts that a store kept about itself when it was served last. */
export function storedIdentity(database: Prepared): Identity {
  const value = (name: string) =>
    database.get<{ value: string }>('SELECT value FROM koinon_meta WHERE name = ?', name)?.value ?? '';
  return { feed: value('feed'), keys: new CursorKeys(value('secret'), storedKeys(database)) };
}

/** The keys for cursors that a database keeps. */
export function storedKeys(database: Prepared): CursorKey[] {
  return keysOf(database.all("SELECT name, value FROM koinon_meta WHERE name LIKE 'cursor key %'"));
}

/** Makes another key for cursors; returns its number. */
export function renewKey(database: Prepared): number {
  const key = newCursorKey(Math.max(0, ...storedKeys(database).map(({ number }) => number)) + 1);
  database.run('INSERT INTO koinon_meta VALUES (?, ?)', keyName(key.number), keyText(key));
  return key.number;
}

function metaOr(database: Prepared, name: string, make: () => string): string {
  const known = database.get<{ value: string }>('SELECT value FROM koinon_meta WHERE name = ?', name);
  if (known) return known.value;
  const value = make();
  database.run('INSERT INTO koinon_meta VALUES (?, ?)', name, value);
  return value;
}
