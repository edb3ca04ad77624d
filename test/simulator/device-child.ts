import { hostReplica, openReplica } from '@koinon/client';
import { always, migrations, schemaOf } from './schema.ts';

// A device that is a process of its own: it hosts its replica for the simulation, which kills it.
const [file, server, upload, sync, token, version, part] = process.argv.slice(2) as [
  string,
  string,
  'every step' | 'latest state',
  string,
  string,
  '1' | '2',
  string,
];
const never = { open: false, change: false, online: false, visible: false, timer: false };
const port = {
  postMessage: (message: unknown) => process.send?.(message),
  on: (event: string, listener: (message: unknown) => void) =>
    process.on(event === 'message' ? 'message' : 'disconnect', listener),
};
process.on('disconnect', () => process.exit());
void hostReplica(port, () =>
  openReplica({
    schema: schemaOf(version === '2' ? 2 : 1),
    ...(version === '2' && { migrations }),
    ...(part === 'some hives' && { only: always(version === '2' ? 2 : 1) }),
    file,
    server,
    token: () => token,
    sync:
      sync === 'automatic'
        ? { upload, minDelay: 50, maxDelay: 500, interval: 1_000, requestBytes: 900 }
        : { upload, when: never, live: false, requestBytes: 900 },
  }),
);
