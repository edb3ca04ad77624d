import { cooperative } from '@koinon/cli';
import { hostTabs } from '@koinon/client/browser';
import { fill } from './seed.ts';

// The page's address may ask for another book, and for more visits in it.
const asked = new URLSearchParams(self.name);
hostTabs({
  schema: cooperative,
  name: asked.get('name') ?? 'field book',
  seed: (transaction) => fill(transaction, Number(asked.get('visits') ?? 2_000)),
});
