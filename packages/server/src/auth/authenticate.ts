import { KoinonError } from '@koinon/core';
import { createLocalJWKSet, createRemoteJWKSet, errors, type JSONWebKeySet, type JWTPayload, jwtVerify } from 'jose';

/** Who asks. */
export interface User {
  /** By this the server knows him again: his replicas are his alone. */
  readonly id: string;
  /** What else is known of him, for rules: the claims of his token. */
  readonly claims: Readonly<Record<string, unknown>>;
  /** When he has to show a new token, in milliseconds since 1970; undefined: never. */
  readonly expires?: number | undefined;
}

/** Milliseconds until a user has to show a new token; longer than a timer can count is longer than any connection lasts. */
export function untilExpiry(user: User | undefined): number {
  return Math.min((user?.expires ?? Number.POSITIVE_INFINITY) - Date.now(), 2 ** 31 - 1);
}

/**
 * Says whose token this is; undefined for one that is not to be trusted. A throw counts as that, but for a KoinonError:
 * that is answered as it is. With `server-failure` nobody is let in, and devices come again by themselves.
 */
export type Authenticate = (token: string) => Promise<User | undefined> | User | undefined;

/** How JSON Web Tokens are verified. */
export interface JwtOptions {
  /** The key: a secret shared with whoever issues tokens, a set of public keys, or the address of one. */
  readonly key: { readonly secret: string | Uint8Array } | { readonly keySet: JSONWebKeySet | URL };
  /** The signatures that are accepted, such as `['ES256']`; for a secret `['HS256']` unless others are named. Never `none`. */
  readonly algorithms?: readonly string[];
  readonly issuer: string;
  readonly audience: string;
}

/** Bytes of a shared secret at least (RFC 7518, 3.2). */
const leastSecret = 32;

/**
 * Verifies JSON Web Tokens (RFC 7519): signature by a pinned algorithm, issuer, audience, expiry. The user is the `sub`.
 *
 * @throws KoinonError `schema-invalid` for a secret that is too short, or algorithms that do not go with the key.
 */
export function jwtAuthentication({ key, algorithms, issuer, audience }: JwtOptions): Authenticate {
  const isSecret = 'secret' in key;
  const accepted = algorithms ?? (isSecret ? ['HS256'] : undefined);
  const wrong = accepted?.find((name) => name === 'none' || name.startsWith('HS') !== isSecret);
  if (accepted === undefined || accepted.length === 0 || wrong !== undefined)
    throw new KoinonError(
      'schema-invalid',
      `Name the algorithms that go with the key: ${isSecret ? 'HS256, HS384 or HS512' : 'such as ES256 or RS256'}${wrong ? `, not ${wrong}` : ''}.`,
    );
  const verify = (token: string): Promise<{ readonly payload: JWTPayload }> => {
    const options = { algorithms: [...accepted], issuer, audience, requiredClaims: ['sub', 'exp'] };
    if ('secret' in key) return jwtVerify(token, secretBytes(key.secret), options);
    return jwtVerify(token, keySet(key.keySet), options);
  };
  if (isSecret && secretBytes(key.secret).byteLength < leastSecret)
    throw new KoinonError('schema-invalid', `A token secret has ${leastSecret} bytes at least.`);
  return async (token) => {
    try {
      const { payload } = await verify(token);
      const { sub = '', exp = 0, ...claims } = payload;
      return sub === '' ? undefined : { id: sub, claims, expires: exp * 1000 };
    } catch (error) {
      if (blamesToken(error)) return undefined;
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

/** Whether a token is at fault, and not the way to the keys. */
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

/** The error for whoever is not known. The same for every reason: it tells nothing of what was right. */
export function notAuthenticated(): KoinonError {
  return new KoinonError('not-authenticated', 'A valid token is needed; sign in again. What is unsent is kept.');
}
