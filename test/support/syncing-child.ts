import { openReplica } from '@koinon/client';
import { garden } from './world.ts';

// Counts and syncs until it is killed, wherever it happens to be; tells of each count that was acknowledged. Several go up
// in each sync, one in a request, so that one is made ready while another is under way.
const [file, server] = process.argv.slice(2) as [string, string];
const never = { open: false, change: false, online: false, visible: false, timer: false };
const sync = { requestBytes: 1, when: never, live: false };
const replica = await openReplica({ schema: garden, file, server, sync });
for (;;) {
  for (let n = 0; n < 3; n++) {
    const { watered } = await replica.add('plant', 'p', 'watered');
    process.stdout.write(`${watered}\n`);
  }
  await replica.sync().catch((error: Error) => process.stderr.write(`${error.message}\n`));
}
