import { hostTabs } from '@koinon/client/browser';
import { bookOf, tokenOf } from './book.ts';
import { field } from './schema.ts';
import { fill, fillMembers } from './seed.ts';

// The page's address may ask for another book, for more visits in it, for a server, and say who has signed in.
const asked = new URLSearchParams(self.name);
const { address, member, name } = bookOf(asked);

const server = address !== undefined && { server: address, sync: 'automatic' as const };
// Without a server, nobody is asked for a token.
const signedIn = server && member !== null && { ...server, token: () => tokenOf(member) };
if (asked.has('blank'))
  // Begun without an account, with nothing but the members to choose from; who signs in takes it along.
  hostTabs({ schema: field, name, seed: fillMembers, ...server, ...signedIn });
else if (member !== null) hostTabs({ schema: field, name, ...signedIn });
// A phone with little space has the register only, and takes sites along one by one.
else if (server && asked.has('sparing'))
  hostTabs({ schema: field, name, only: { tables: ['member', 'site'] }, ...server });
else if (server) hostTabs({ schema: field, name, ...server });
else
  hostTabs({
    schema: field,
    name,
    seed: (transaction) => fill(transaction, Number(asked.get('visits') ?? 2_000)),
  });
