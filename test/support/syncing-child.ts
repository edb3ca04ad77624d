import { openReplica } from '@koinon/client';
import { garden } from './world.ts';

// Counts and syncs until it is killed, wherever it happens to be; tells of each count that was acknowledged.
const [file, server] = process.argv.slice(2) as [string, string];
const replica = await openReplica({ schema: garden, file, server });
for (;;) {
  const { watered } = await replica.add('plant', 'p', 'watered');
  process.stdout.write(`${watered}\n`);
  await replica.sync().catch((error: Error) => process.stderr.write(`${error.message}\n`));
}
