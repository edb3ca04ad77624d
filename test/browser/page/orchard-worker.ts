import { hostTabs } from '@koinon/client/browser';
import { newerOrchard, orchard } from './orchard.ts';

// What befalls workers: they hang, and they die at the worst moment.
self.addEventListener('message', (event: MessageEvent<{ hang?: number; dieAfterCommit?: true }>) => {
  const { hang, dieAfterCommit } = event.data;
  if (hang === undefined && dieAfterCommit === undefined) return;
  event.stopImmediatePropagation();
  const until = Date.now() + (hang ?? 0);
  while (Date.now() < until);
  if (dieAfterCommit) {
    // The next thing told to another tab is that its call was done.
    BroadcastChannel.prototype.postMessage = () => self.close();
  }
});

if (self.name.startsWith('refused'))
  Object.defineProperty(navigator.storage, 'getDirectory', {
    value: () => Promise.reject(new DOMException('private files are switched off', 'SecurityError')),
  });

// A transaction nobody ends would be rolled back some time: here that must not be what frees the queue.
const [name = '', version] = self.name.split(', version ');
const [, server] = name.split('linked to ');
hostTabs({ schema: version === '2' ? newerOrchard : orchard, name, stallLimit: 300_000, ...(server && { server }) });
