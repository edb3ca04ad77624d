import { promisify } from 'node:util';
import { gzip } from 'node:zlib';
import { Requests } from '../test/simulator/requests.ts';

// Sends what nobody honest sends, from four addresses, as fast as it is answered, until it is ended: requests with mistakes,
// lists of ever new lengths, large scopes, compressed arrays in arrays, joins and guessed tokens.

const [url] = process.argv.slice(2) as [string];
const arrays = await promisify(gzip)(`[${'[],'.repeat(8e6)}1]`);
const requests = new Requests(Date.now() % 1_000_000);
let sent = 0;

async function one(lane: number): Promise<void> {
  sent++;
  const json = { 'content-type': 'application/json', authorization: `Bearer user-${sent % 50}` };
  const from = { 'x-forwarded-for': `192.0.2.${lane}` };
  const post = (path: string, body: string | Uint8Array, headers: Record<string, string> = {}) =>
    fetch(`${url}${path}`, {
      method: 'POST',
      headers: { ...json, ...from, ...headers },
      body: typeof body === 'string' ? body : new Uint8Array(body),
      signal: AbortSignal.timeout(5_000),
    });
  const list = (of: number) => Array.from({ length: of }, (_, i) => `no-${sent}-${i}`);
  const answer = await (async () => {
    switch (sent % 8) {
      case 0:
        return post('/v1/pull', JSON.stringify({ where: { site: { id: { in: list(1 + (sent % 3_000)) } } } }));
      case 1:
        return post('/v1/push', arrays, { 'content-encoding': 'gzip' });
      case 2:
        return post('/v1/pull', JSON.stringify({ where: { hive: { or: list(900).map((id) => ({ id })) } } }));
      case 3:
        return post('/v1/pull', '{}', { authorization: '' });
      case 4:
        return fetch(`${url}/v1/trash?limit=1`, { headers: { ...json, ...from } });
      default: {
        const { path, init } = await requests.next();
        if (path.startsWith('/v1/wait')) return undefined;
        return fetch(`${url}${path}`, {
          ...init,
          headers: { ...(init.headers as Record<string, string>), ...from },
          signal: AbortSignal.timeout(5_000),
        });
      }
    }
  })();
  await answer?.arrayBuffer();
}

const lane = async (n: number) => {
  for (;;) await one(n).catch(() => undefined);
};
process.once('disconnect', () => process.exit());
for (let n = 1; n <= 4; n++) void lane(n);
