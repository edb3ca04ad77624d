import { openReplica } from '@koinon/client';
import { visits } from './visits.ts';

// A first download in a process of its own; says how much memory it took at most, in kB.
const [url = '', file = ''] = process.argv.slice(2);
const replica = await openReplica({ schema: visits, file, server: url });
await replica.sync();
await replica.close();
process.stdout.write(String(process.resourceUsage().maxRSS));
