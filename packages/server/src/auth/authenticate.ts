import { KoinonError } from '@koinon/core';
import { silence } from '@koinon/core/internal';
import { createLocalJWKSet, createRemoteJWKSet, errors, type JSONWebKeySet, type JWTPayload, jwtVerify } from 'jose';

/** The replica that asks. */
export interface User {
  /** By this the server knows him again: his replicas are his alone. */
  readonly id: string;
  /** The claims of his token, for rules. */
  readonly claims: Readonly<Record<string, unknown>>;
  /** When he has to show a new token, in milliseconds since 1970; undefined: never. */
  readonly expires?: number | undefined;
}

/** Milliseconds until a user has to show a new token; longer than a timer can count is longer than any connection lasts. */
export function untilExpiry(user: User | undefined): number {
  return Math.min((user?.expires ?? Number.POSITIVE_INFINITY) - Date.now(), 2 ** 31 - 1);
}

/** A token that is not to be trusted, and why: for the log alone, the answer is the same for every reason. */
export interface RefusedToken {
  readonly refused: string;
}

/**
 * Says whose token this is; undefined, or the reason, for one that is not to be trusted. A throw counts as that, but for a
 * KoinonError: that is answered as it is. With `server-failure` nobody is let in, and devices come again by themselves. It is
 * asked again every 20 seconds while a connection is open: a user who is no longer known hears nothing from then on.
 */
export type Authenticate = (
  token: string,
) => Promise<User | RefusedToken | undefined> | User | RefusedToken | undefined;

/** How JSON Web Tokens are verified. */
export interface JwtOptions {
  /** The key: a secret shared with whoever issues tokens, a set of public keys, or the address of one. */
  readonly key: { readonly secret: string | Uint8Array } | { readonly keySet: JSONWebKeySet | URL };
  /** The signatures that are accepted, such as `['ES256']`; for a secret `['HS256']` unless others are named. Never `none`. */
  readonly algorithms?: readonly string[];
  readonly issuer: string;
  readonly audience: string;
}

/** Milliseconds that the clock of whoever issues tokens may be ahead. */
const clockTolerance = 60_000;

/** Bytes of a shared secret at least (RFC 7518, 3.2). */
const leastSecret = 32;

/**
 * Verifies JSON Web Tokens (RFC 7519): signature by a pinned algorithm, issuer, audience, expiry. The user is the `sub`.
 *
 * @throws KoinonError `argument-invalid` for a secret that is too short, algorithms that do not go with the key, an empty issuer
 *   or audience.
 * @example
 * const authenticate = jwtAuthentication({ key: { secret: 'a text of at least thirty-two bytes' }, issuer: 'office', audience: 'hives' })
 * const server = await startServer({ store, authenticate })
 */
export function jwtAuthentication({ key, algorithms, issuer, audience }: JwtOptions): Authenticate {
  const isSecret = 'secret' in key;
  const accepted = algorithms ?? (isSecret ? ['HS256'] : undefined);
  const wrong = accepted?.find((name) => name === 'none' || name.startsWith('HS') !== isSecret);
  if (accepted === undefined || accepted.length === 0 || wrong !== undefined)
    throw new KoinonError(
      'argument-invalid',
      `Name the algorithms that go with the key: ${isSecret ? 'HS256, HS384 or HS512' : 'such as ES256 or RS256'}${wrong ? `, not ${wrong}` : ''}.`,
    );
  const verify = (token: string): Promise<{ readonly payload: JWTPayload }> => {
    const options = { algorithms: [...accepted], issuer, audience, requiredClaims: ['sub', 'exp'] };
    if ('secret' in key) return jwtVerify(token, secretBytes(key.secret), options);
    return jwtVerify(token, keySet(key.keySet), options);
  };
  for (const [name, given] of Object.entries({ issuer, audience }))
    if (typeof given !== 'string' || given === '')
      throw new KoinonError(
        'argument-invalid',
        `${name} is a text that is not empty: without it any token of the same key would do.`,
        {
          value: given,
        },
      );
  if (isSecret && secretBytes(key.secret).byteLength < leastSecret)
    throw new KoinonError('argument-invalid', `A token secret has ${leastSecret} bytes at least.`);
  return async (token) => {
    try {
      const { payload } = await verify(token);
      const { sub, exp = 0, iat = 0, ...claims } = payload;
      // As it came: RFC 7519 says what these are, and nobody has looked yet.
      if (typeof sub !== 'string') return { refused: 'its sub is no text' };
      if (typeof iat !== 'number' || iat * 1_000 > Date.now() + clockTolerance)
        return { refused: 'its iat is in the future' };
      return { id: sub, claims: { ...claims, ...(iat > 0 && { iat }) }, expires: exp * 1_000 };
    } catch (error) {
      if (blamesToken(error)) return { refused: (error as Error).message };
      // Whose token it is cannot be told just now: nobody has to sign in again for that.
      throw new KoinonError(
        'server-failure',
        'The keys that tokens are verified with cannot be had just now. Try again.',
        {
          cause: error,
        },
      );
    }
  };
}

/** Tells whether a token is at fault, and not the way to the keys. */
function blamesToken(error: unknown): boolean {
  const ofKeys = [errors.JWKSTimeout.code, errors.JWKSInvalid.code, errors.JOSEError.code];
  return error instanceof errors.JOSEError && !ofKeys.includes(error.code);
}

const secretBytes = (secret: string | Uint8Array) =>
  typeof secret === 'string' ? new TextEncoder().encode(secret) : secret;

const sets = new WeakMap<object, ReturnType<typeof createLocalJWKSet>>();

/** A key set is fetched, and kept, once for each address. */
function keySet(given: JSONWebKeySet | URL): ReturnType<typeof createLocalJWKSet> {
  const known = sets.get(given);
  if (known) return known;
  const made = given instanceof URL ? createRemoteJWKSet(given) : createLocalJWKSet(given);
  sets.set(given, made as ReturnType<typeof createLocalJWKSet>);
  return made as ReturnType<typeof createLocalJWKSet>;
}

/** Milliseconds after which it is asked again who follows: a user may have been removed meanwhile. */
export const askAgainAfter = silence / 2;

/** Ends what a user follows who is not known any more; where nobody can tell just now, it goes on. */
export const endUnknown =
  (end: (error: KoinonError) => void) =>
  (error: unknown): void => {
    if (error instanceof KoinonError && error.code === 'not-authenticated') end(error);
  };

/** The error for whoever is not known. The same for every reason: it tells nothing of what was right. */
export function notAuthenticated(): KoinonError {
  return new KoinonError('not-authenticated', 'A valid token is needed; sign in again. What is unsent is kept.');
}
