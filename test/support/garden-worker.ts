import { parentPort, workerData } from 'node:worker_threads';
import { hostReplica, openReplica, type Port } from '@koinon/client';
import { garden } from './world.ts';

await hostReplica(parentPort as Port, () => openReplica({ schema: garden, ...(workerData as object) }));
