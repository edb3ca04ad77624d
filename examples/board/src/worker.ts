import { cooperative } from '@koinon/cli';
import { hostTabs } from '@koinon/client/browser';

hostTabs({ schema: cooperative, name: 'board', server: `${self.location.origin}/office`, sync: 'automatic' });
