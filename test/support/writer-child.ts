import { openReplica } from '@koinon/client';
import { garden } from './world.ts';

// Writes until it is killed, and tells of each write once it was acknowledged.
const replica = await openReplica({ schema: garden, file: process.argv[2] as string });
for (let n = 0; ; n++) {
  if (n % 3 === 2) {
    await replica.transaction(async (transaction) => {
      await transaction.insert('bed', { id: `bed-${n}`, name: `bed ${n}` });
      await transaction.insert('plant', { id: `plant-${n}`, bed: `bed-${n}`, kind: 'herb' });
    });
  } else await replica.insert('bed', { id: `bed-${n}`, name: `bed ${n}` });
  process.stdout.write(`${n}\n`);
}
