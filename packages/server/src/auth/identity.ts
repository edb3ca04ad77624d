import { KoinonError } from '@koinon/core';
import { checkId, messageOf } from '@koinon/core/internal';
import { type Authenticate, notAuthenticated, type RefusedToken, type User } from './authenticate.ts';

/** Tells who asks by a token; undefined where the server knows no users. @throws KoinonError `not-authenticated`. */
export type Identify = (token: string | undefined) => Promise<User | undefined>;

/**
 * Asks the app's own `authenticate`.
 *
 * @param refused told why a token was not taken. The token itself is never told.
 */
export function identifyBy(authenticate: Authenticate | undefined, refused: (reason: string) => void): Identify {
  return async (token) => {
    if (authenticate === undefined) return undefined;
    if (!token) throw notAuthenticated();
    const found = await ask(authenticate, token);
    if ('id' in found) return found;
    refused(found.refused);
    throw notAuthenticated();
  };
}

/** The user of a token, or why it was refused. */
async function ask(authenticate: Authenticate, token: string): Promise<User | RefusedToken> {
  try {
    const found = await authenticate(token);
    if (typeof found !== 'object' || found === null) return { refused: 'authenticate knows no user of it' };
    if (!('id' in found)) return found;
    if (checkId(found.id)) return { refused: 'the id of its user is not a text of 1 to 200 characters' };
    const hasExpired = (found.expires ?? Number.POSITIVE_INFINITY) <= Date.now();
    return hasExpired ? { refused: 'it has expired' } : found;
  } catch (error) {
    if (error instanceof KoinonError) throw error;
    return { refused: `authenticate threw: ${messageOf(error).replaceAll(token, '(the token)')}` };
  }
}
