import { cooperative } from '@koinon/cli';
import { hostTabs } from '@koinon/client/browser';
import { fill } from './seed.ts';

hostTabs({ schema: cooperative, name: new URLSearchParams(self.name).get('name') ?? 'field book', seed: fill });
