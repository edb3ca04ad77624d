import { createHmac, timingSafeEqual } from 'node:crypto';
import { type Cursor, KoinonError, shown } from '@koinon/core';

/** A cursor as a token: its content and an HMAC (SHA-256) over it, so that none can be made up or widened. */
export function sealCursor(cursor: Cursor, secret: string): string {
  const content = Buffer.from(JSON.stringify(cursor)).toString('base64url');
  return `${content}.${mac(content, secret)}`;
}

/** The content of a token. @throws KoinonError `unknown-cursor` for one that this server did not give. */
export function openCursor(token: string, secret: string): Cursor {
  const [content = '', given = ''] = token.split('.');
  const expected = Buffer.from(mac(content, secret));
  const sealed = Buffer.from(given);
  if (sealed.length !== expected.length || !timingSafeEqual(sealed, expected))
    throw unknownCursor(token, 'it was not given by this server');
  return JSON.parse(Buffer.from(content, 'base64url').toString()) as Cursor;
}

/** The error for a cursor that cannot be used here. */
export function unknownCursor(token: string, why: string): KoinonError {
  return new KoinonError(
    'unknown-cursor',
    `The cursor ${shown(token)} cannot be used: ${why}. Pull without a cursor to start over.`,
  );
}

function mac(content: string, secret: string): string {
  return createHmac('sha256', secret).update(content).digest('base64url');
}
