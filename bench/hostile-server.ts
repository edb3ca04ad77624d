import { sqliteStore, startServer } from '@koinon/server';
import { asked } from '../test/simulator/requests.ts';

// The server of the rows `hostile`, in a process of its own: what it takes in memory is its own, too.

const [file] = process.argv.slice(2) as [string];
const store = await sqliteStore(asked, file);
const server = await startServer({
  store,
  port: 0,
  // Each sender is one address, as the bench says who asks.
  proxies: ['127.0.0.1'],
  authenticate: (token) => ({ id: token, claims: {} }),
  scopes: {
    site: { read: (user) => (user?.id === 'office' ? 'all' : { keeper: user?.id ?? '' }) },
    hive: { with: 'site' },
  },
});
process.on('message', () => process.send?.({ memory: process.memoryUsage().rss }));
process.once('disconnect', () => void server.close().then(() => process.exit()));
process.send?.({ url: server.url });
