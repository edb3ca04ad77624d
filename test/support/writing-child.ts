import { openReplica } from '@koinon/client';
import { garden } from './world.ts';

// Writes a given number of rows into a file that others write as well.
const [file, name, count] = process.argv.slice(2) as [string, string, string];
const replica = await openReplica({ schema: garden, file });
for (let n = 0; n < Number(count); n++) {
  if (n % 4 === 3) {
    await replica.transaction(async (transaction) => {
      await transaction.insert('bed', { id: `${name}-${n}`, name: `${name} ${n}` });
      await transaction.add('plant', 'p', 'watered');
    });
  } else await replica.insert('bed', { id: `${name}-${n}`, name: `${name} ${n}` });
}
await replica.close();
