import { hostTabs } from '@koinon/client/browser';
import { orchard } from './orchard.ts';

hostTabs({ schema: orchard, name: self.name });
