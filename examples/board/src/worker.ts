import { hostTabs } from '@koinon/client/browser';
import { cooperative } from '@koinon/demo';

hostTabs({ schema: cooperative, name: 'board', server: `${self.location.origin}/office`, sync: 'automatic' });
