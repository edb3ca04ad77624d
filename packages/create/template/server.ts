import { sqliteStore, startServer } from '@koinon/server';
import { apiary } from './src/schema.ts';

const store = await sqliteStore(apiary, process.env.APIARY_FILE ?? 'apiary.db');
const server = await startServer({ store, port: Number(process.env.PORT ?? 4280) });
console.log(`The server answers at ${server.url}.`);
for (const signal of ['SIGINT', 'SIGTERM'] as const) process.once(signal, () => void server.close());
