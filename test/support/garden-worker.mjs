import { register } from 'tsx/esm/api';

// A worker thread of Node 20 does not take over the loader of the process: it registers its own.
register();
await import('./garden-worker.ts');
