import { hostTabs } from '@koinon/client/browser';
import { cooperative } from '@koinon/demo';
import { fill, fillMembers } from './seed.ts';

// The page's address may ask for another book, for more visits in it, for a server, and say who has signed in.
const asked = new URLSearchParams(self.name);
const name = asked.get('name') ?? 'field book';
const member = asked.get('member');
const path = member === null ? asked.get('server') : asked.get('members');

/** A token for development, as the demo's server gives one to whoever asks; a real app would have a sign-in of its own. */
async function token(): Promise<string | undefined> {
  const answer = await fetch(`${self.location.origin}/sign-in`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ member }),
  });
  return answer.ok ? ((await answer.json()) as { token: string }).token : undefined;
}

// An empty path is the page's own origin.
const server = path !== null && { server: `${self.location.origin}${path}`, sync: 'automatic' as const };
// Without a server, nobody is asked for a token.
const signedIn = server && member !== null && { ...server, token };
if (asked.has('blank'))
  // Begun without an account, with nothing but the members to choose from; who signs in takes it along.
  hostTabs({ schema: cooperative, name, seed: fillMembers, ...server, ...signedIn });
else if (member !== null) hostTabs({ schema: cooperative, name: `${name}, ${member}`, ...signedIn });
else if (server) hostTabs({ schema: cooperative, name: `${name}, shared`, ...server });
else
  hostTabs({
    schema: cooperative,
    name,
    seed: (transaction) => fill(transaction, Number(asked.get('visits') ?? 2_000)),
  });
