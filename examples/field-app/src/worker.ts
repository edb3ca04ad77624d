import { cooperative } from '@koinon/cli';
import { hostTabs } from '@koinon/client/browser';
import { fill } from './seed.ts';

// The page's address may ask for another book, for more visits in it, and for a server.
const asked = new URLSearchParams(self.name);
const name = asked.get('name') ?? 'field book';
if (asked.has('server'))
  hostTabs({
    schema: cooperative,
    name: `${name}, shared`,
    server: `${self.location.origin}${asked.get('server')}`,
    sync: 'automatic',
  });
else
  hostTabs({
    schema: cooperative,
    name,
    seed: (transaction) => fill(transaction, Number(asked.get('visits') ?? 2_000)),
  });
