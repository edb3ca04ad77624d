import { hostTabs } from '@koinon/client/browser';
import { newerOrchard, orchard } from './orchard.ts';

// The misfortunes of workers: they hang, and they die at the worst moment.
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
// Browsers that have private files, but open none, and those that say in words of their own that another worker has one open.
type Opens = { createSyncAccessHandle(...options: unknown[]): Promise<unknown> };
const files = FileSystemFileHandle.prototype as unknown as Opens;
const open = files.createSyncAccessHandle;
const refusals = { 'closed to pages': ['NotSupportedError', 1e9], 'open elsewhere': ['InvalidStateError', 3] } as const;
for (const [called, [error, times]] of Object.entries(refusals)) {
  let left: number = times;
  if (self.name.startsWith(called))
    files.createSyncAccessHandle = function (...options) {
      return left-- > 0 ? Promise.reject(new DOMException(called, error)) : open.apply(this, options);
    };
}

// A transaction nobody ends would be rolled back some time: here that must not be what frees the queue.
const [name = '', version] = self.name.split(', version ');
const [, server] = name.split('linked to ');
const [, prebuilt] = name.split('from ');
hostTabs({
  schema: version === '2' ? newerOrchard : orchard,
  name,
  stallLimit: name === 'stray' ? 1_000 : 300_000,
  ...(server && { server }),
  ...(prebuilt && { prebuilt }),
});
