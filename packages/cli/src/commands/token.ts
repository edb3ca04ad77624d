import { KoinonError } from '@koinon/core';
import { type Authenticate, jwtAuthentication } from '@koinon/server';
import { Command, InvalidArgumentError } from 'commander';
import { SignJWT } from 'jose';
import { printJson } from './output.ts';

/** The environment's variable that holds the secret under which `serve` takes tokens, and `token` makes them. */
export const secretName = 'KOINON_TOKEN_SECRET';

const issuer = 'koinon';
const audience = 'koinon';

/** How `serve` knows users, where the environment holds a secret. */
export function authenticateBySecret(): Authenticate | undefined {
  const secret = process.env[secretName];
  return secret ? bySecret(secret) : undefined;
}

/** Whose tokens are those of {@link mintToken} under a secret. */
export function bySecret(secret: string): Authenticate {
  return jwtAuthentication({ key: { secret }, issuer, audience });
}

/** A token for a user, signed with a secret: for development. */
export function mintToken(user: string, secret: string, hours = 12): Promise<string> {
  const now = Math.floor(Date.now() / 1000);
  return new SignJWT({})
    .setProtectedHeader({ alg: 'HS256' })
    .setSubject(user)
    .setIssuer(issuer)
    .setAudience(audience)
    .setIssuedAt(now)
    .setExpirationTime(now + Math.round(hours * 3600))
    .sign(new TextEncoder().encode(secret));
}

/** `koinon token`: a token for development. */
export function tokenCommand(): Command {
  return new Command('token')
    .description(`Make a token for a user, signed with the secret in ${secretName}. For development only.`)
    .argument('<user>', 'the user’s id')
    .option('--hours <number>', 'how long it is good for', hours, 12)
    .option('--json', 'print JSON')
    .action(async (user: string, options: { hours: number; json?: boolean }) => {
      const secret = process.env[secretName];
      // Refuses a secret that no server would take.
      if (!secret || authenticateBySecret() === undefined)
        throw new KoinonError(
          'secret-missing',
          `Set ${secretName} to the secret that the server has, of 32 bytes at least.`,
        );
      const token = await mintToken(user, secret, options.hours);
      if (options.json) return printJson({ user, token, hours: options.hours });
      console.log(token);
    });
}

function hours(text: string): number {
  const value = Number(text);
  if (!(value > 0 && value <= 24 * 365)) throw new InvalidArgumentError('Hours are a number above 0, a year at most.');
  return value;
}
