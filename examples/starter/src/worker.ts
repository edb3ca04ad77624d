import { hostTabs } from '@koinon/client/browser';
import { apiary } from './schema.ts';

hostTabs({ schema: apiary, name: 'starter' });
