import { hostTabs } from '@koinon/client/browser';
import { apiary } from './schema.ts';

hostTabs({ schema: apiary, name: 'apiary', server: self.location.origin, sync: 'automatic' });
