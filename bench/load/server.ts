import { postgresStore, startServer } from '@koinon/server';
import { apiaries, apiaryName, scopes } from './apiaries.ts';

// One server process of the load. All listen on one port, which the operating system's connections are shared out from.

const [database, port, replicasOfOne] = process.argv.slice(2) as [string, string, string];
const server = await startServer({
  store: await postgresStore(apiaries, database),
  port: Number(port),
  // All replicas of the load come from one machine.
  requestsPerMinute: 100_000_000,
  connections: 100_000,
  scopes,
  authenticate: (token) => ({ id: apiaryName(Math.floor(Number(token) / Number(replicasOfOne))), claims: {} }),
});
process.send?.('ready');
process.once('SIGTERM', () => void server.close().then(() => process.exit()));
process.once('disconnect', () => process.exit());
