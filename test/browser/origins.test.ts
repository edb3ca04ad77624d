import { createServer, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { startServer } from '@koinon/server';
import { expect, test } from 'vitest';
import { WebSocket } from 'ws';
import { openBrowser } from '../support/browser.ts';
import { garden, World } from '../support/world.ts';

// Pages that are served elsewhere than the server, in a real browser, which keeps to what the server says.

test('a page of the same host, on any port, and one of a named origin may ask and are told what is wrong; another one may not', async () => {
  const world = await World.inTest(garden);
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
  /** The answers to a page: the statuses of a pull without and with a token, and the first event of the feed. */
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
});

test('in a browser a redirect to another origin is not followed: neither edits nor the token go there', async () => {
  const heard: { readonly method: string; readonly authorization: string | undefined; readonly body: string }[] = [];
  const listen = async (answer: (response: ServerResponse) => void) => {
    const server = createServer(async (request, response) => {
      let body = '';
      for await (const chunk of request) body += chunk;
      const { origin = '*', authorization } = request.headers;
      response.setHeader('access-control-allow-origin', origin);
      response.setHeader('access-control-allow-headers', 'content-type, content-encoding, authorization');
      if (request.method === 'OPTIONS') response.end();
      else {
        heard.push({ method: String(request.method), authorization, body });
        answer(response);
      }
    });
    await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
    return { server, url: `http://127.0.0.1:${(server.address() as AddressInfo).port}` };
  };
  const elsewhere = await listen((response) => response.end('{}'));
  const redirecting = await listen((response) => {
    heard.pop();
    response.writeHead(307, { location: `${elsewhere.url}/v1/push` }).end();
  });
  const { context, url } = await openBrowser();
  const page = await context.newPage();
  await page.goto(url);
  await page.evaluate((name) => window.openReplica(name), `linked to ${redirecting.url}`);
  await page.evaluate(() => window.replica.insert('tree', { id: 'plum', kind: 'a secret' }));
  const told = await page.evaluate(() =>
    window.replica.sync().then(
      () => 'synced',
      ({ code, message }) => `${code}: ${message}`,
    ),
  );
  expect(told).toMatch(
    /^server-answer: The server at .* redirects to http:\/\/127\.0\.0\.1:\d+, and nothing was sent there/,
  );
  expect(heard.length).toBeGreaterThan(0);
  for (const each of heard) expect(each).toEqual({ method: 'GET', authorization: undefined, body: '' });
  expect(await page.evaluate(() => window.replica.outbox())).toMatchObject([{ state: 'pending' }]);
  await page.close();
  for (const { server } of [elsewhere, redirecting]) {
    server.closeAllConnections();
    server.close();
  }
});
