import { type Authenticate, jwtAuthentication } from '@koinon/server';
import { SignJWT } from 'jose';

const issuer = 'cooperative';
const audience = 'cooperative';

/** How the demo's server knows who signs in: by tokens of {@link mintToken} under the same secret. */
export function bySecret(secret: string): Authenticate {
  return jwtAuthentication({ key: { secret }, issuer, audience });
}

/** A member's token, good for a day of play. An app's own sign-in takes its place. */
export function mintToken(member: string, secret: string): Promise<string> {
  return new SignJWT({})
    .setProtectedHeader({ alg: 'HS256' })
    .setSubject(member)
    .setIssuer(issuer)
    .setAudience(audience)
    .setIssuedAt()
    .setExpirationTime('12h')
    .sign(new TextEncoder().encode(secret));
}
