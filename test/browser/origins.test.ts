import { startServer } from '@koinon/server';
import { expect, test } from 'vitest';
import { WebSocket } from 'ws';
import { openBrowser } from '../support/browser.ts';
import { garden, World } from '../support/world.ts';

// Pages that are served elsewhere than the server, in a real browser, which keeps to what the server says.

test('a page of the same host, on any port, and one of a named origin may ask and are told what is wrong; another one may not', async () => {
  const world = await World.of(garden);
  const token = 'a-token';
  const server = await startServer({
    store: await world.database.open(garden),
    port: 0,
    origins: ['https://app.example'],
    authenticate: (given) => (given === token ? { id: 'ida', claims: {} } : undefined),
  });
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  // The server of the test is on this machine: newer browsers let no page from elsewhere ask there without permission.
  await context.grantPermissions(['local-network-access']).catch(() => undefined);
  await context.route(/app\.example/, (route) => route.fulfill({ contentType: 'text/html', body: '<p>An app' }));
  /** What a page is answered: the statuses of a pull without and with a token, and the first event of the feed. */
  const asked = async (address: string) => {
    await page.goto(address);
    return page.evaluate(
      async ([root, right]) => {
        const pull = async (given: string) => {
          const headers = { 'content-type': 'application/json', authorization: `Bearer ${given}` };
          return (await fetch(`${root}/v1/pull`, { method: 'POST', body: '{}', headers })).status;
        };
        const follow = async () => {
          const headers = { authorization: `Bearer ${right}` };
          const { body, status } = await fetch(`${root}/v1/feed?follow=true`, { headers });
          await body?.cancel();
          return status;
        };
        return Promise.all([pull('wrong'), pull(right), follow()]).catch((error: Error) => error.name);
      },
      [server.url, token] as const,
    );
  };
  expect(await asked(url)).toEqual([401, 200, 200]);
  expect(await asked('https://app.example/field')).toEqual([401, 200, 200]);
  expect(await asked('https://other.app.example/')).toBe('TypeError');
  const connects = (origin: string) =>
    new Promise((done) => {
      const socket = new WebSocket(`${server.url.replace('http', 'ws')}/v1/live`, { origin });
      socket.on('open', () => done(socket.terminate() ?? 'open'));
      socket.on('unexpected-response', (_request, { statusCode }) => done(statusCode));
    });
  expect(await Promise.all(['https://app.example', 'https://other.app.example', url].map(connects))).toEqual([
    'open',
    403,
    'open',
  ]);
  await page.close();
  await context.unroute(/app\.example/);
  await server.close();
  await world.end();
});
