import { createCipheriv, createDecipheriv, createHmac, timingSafeEqual } from 'node:crypto';
import { type Cursor, KoinonError } from '@koinon/core';
import { shown } from '@koinon/core/internal';
import type { CursorKeys, ReadyKey } from './keys.ts';

const algorithm = 'aes-256-gcm';
const [nonceBytes, tagBytes] = [12, 16];

/**
 * A cursor as a token: encrypted and sealed (AES-256-GCM), so that none can be read, made up or widened. The nonce is made from
 * the content: the same cursor is the same token, and two contents share a nonce only by a chance of 1 in 2^48.
 */
export function sealCursor(cursor: Cursor, keys: CursorKeys): string {
  const { current } = keys;
  const content = JSON.stringify(cursor);
  const nonce = createHmac('sha256', current.mac).update(content).digest().subarray(0, nonceBytes);
  const cipher = createCipheriv(algorithm, current.cipher, nonce);
  const sealed = Buffer.concat([nonce, cipher.update(content, 'utf8'), cipher.final(), cipher.getAuthTag()]);
  const text = `${current.number}.${sealed.toString('base64url')}`;
  return `${text}.${keys.lineage(text)}`;
}

/**
 * The content of a token.
 *
 * @throws KoinonError `unknown-cursor` for one that this database did not give; `feed-restored` for one of a later time than the
 *   database knows of; `forgotten-cursor` for one whose key is kept no longer.
 */
export function openCursor(token: string, keys: CursorKeys): Cursor {
  const { number, content, isOurs } = partsOf(token, keys);
  if (!isOurs) throw unknownCursor(token, 'it was not given by this server');
  const key = keys.find(number);
  if (key === undefined) throw keys.isLater(number) ? restoredCursor(token) : forgottenCursor(token);
  const cursor = decrypted(key, Buffer.from(content, 'base64url'));
  if (cursor === undefined) throw unknownCursor(token, 'it was not given by this server');
  return cursor;
}

/** Tells whether this database gave a token, by a key that this process has not read yet. */
export function isOfNewKey(token: string, keys: CursorKeys): boolean {
  const { number, isOurs } = partsOf(token, keys);
  return isOurs && keys.find(number) === undefined;
}

function partsOf(token: string, keys: CursorKeys) {
  const [number = '', content = '', lineage = ''] = token.split('.');
  return { number: Number(number), content, isOurs: isSame(keys.lineage(`${number}.${content}`), lineage) };
}

function decrypted(key: ReadyKey, sealed: Buffer): Cursor | undefined {
  try {
    const decipher = createDecipheriv(algorithm, key.cipher, sealed.subarray(0, nonceBytes));
    decipher.setAuthTag(sealed.subarray(-tagBytes));
    const content = sealed.subarray(nonceBytes, -tagBytes);
    return JSON.parse(Buffer.concat([decipher.update(content), decipher.final()]).toString()) as Cursor;
  } catch {
    return undefined;
  }
}

function isSame(expected: string, given: string): boolean {
  const [one, other] = [Buffer.from(expected), Buffer.from(given)];
  return one.length === other.length && timingSafeEqual(one, other);
}

/** The error for a cursor that cannot be used here. */
export function unknownCursor(token: string, why: string): KoinonError {
  return new KoinonError(
    'unknown-cursor',
    `The cursor ${shown(token)} cannot be used: ${why}. Pull without a cursor to start over.`,
  );
}

/** The error for a cursor of a time that the database has lost. */
export function restoredCursor(token: string): KoinonError {
  return new KoinonError(
    'feed-restored',
    `The cursor ${shown(token)} is of a time that this server's database has lost: it was restored from a backup. Pull without a cursor to start over, and send again what was confirmed and is not in it.`,
  );
}

/** The error for a cursor that is older than what the database keeps. */
export function forgottenCursor(token: string): KoinonError {
  return new KoinonError(
    'forgotten-cursor',
    `The cursor ${shown(token)} is older than the deletions this server keeps. Pull without a cursor to start over; what is unsent is kept.`,
  );
}
