import { hostTabs } from '@koinon/client/browser';
import { photos } from './photos.ts';

hostTabs({ schema: photos, name: 'bench' });
