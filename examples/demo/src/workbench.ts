import { randomBytes } from 'node:crypto';
import { existsSync } from 'node:fs';
import { join, resolve } from 'node:path';
import type { Duplex } from 'node:stream';
import staticFiles from '@fastify/static';
import { KoinonError } from '@koinon/core';
import { type FileStorage, koinonPlugin, type Moved, type Store } from '@koinon/server';
import fastify, { type FastifyReply } from 'fastify';
import { actions } from './cooperative/actions.ts';
import { rules } from './cooperative/rules.ts';
import { scopes } from './cooperative/scopes.ts';
import type { Office } from './office.ts';
import { bySecret, mintToken } from './sign-in.ts';

/** The devices on the page, each with a way to the server of its own that can be closed. */
export const devices = ['runa', 'teodor'] as const;
type Device = (typeof devices)[number];

/** A statement that an upload ran on the server. */
export interface Ran {
  readonly sql: string;
  readonly values: readonly unknown[];
}

/** The page with two devices and the server between them, while it is served. */
export interface Workbench {
  readonly url: string;
  /** Takes note of what an upload ran. */
  ran(statement: Ran): void;
  close(): Promise<void>;
}

/** The parts of the page. */
export interface WorkbenchParts {
  readonly store: Store;
  readonly office: Office;
  /** The contents of photos. */
  readonly contents: FileStorage;
  /** The folder of the built examples: `workbench`, `field-app`, `board`. */
  readonly pages: string;
  readonly port: number;
}

const loopback = /^(127(\.\d{1,3}){3}|\[::1\]|localhost)$/;

/**
 * Serves the workbench, to this machine only: whoever reaches it can run any SQL on the server's database.
 *
 * @throws KoinonError `storage-refused` where the pages have not been built; `address-in-use`.
 */
export async function openWorkbench({ store, office, contents, pages, port }: WorkbenchParts): Promise<Workbench> {
  const root = (name: string) => resolve(pages, name, 'dist');
  const missing = ['workbench', 'field-app', 'board'].find((name) => !existsSync(join(root(name), 'index.html')));
  if (missing) throw new KoinonError('storage-refused', `${root(missing)} is not there; build the examples first.`);
  const app = fastify({ forceCloseConnections: true });
  const watching = new Set<FastifyReply>();
  const tell = (event: object) => {
    const text = `data: ${JSON.stringify({ ...event, at: Date.now() })}\n\n`;
    for (const reply of watching) reply.raw.write(text);
  };
  app.addHook('onRequest', async ({ headers: { host, origin } }, reply) => {
    const isOwn = loopback.test(new URL(`http://${host}`).hostname) && (!origin || new URL(origin).host === host);
    if (!isOwn) await reply.status(403).send('This page is for this machine only.');
  });

  const signals = new Map(devices.map((device) => [device, { isOn: true, sockets: new Set<Duplex>() }]));
  app.server.on('upgrade', (request, socket) => {
    const signal = signals.get(request.url?.split('/')[2] as Device);
    if (signal === undefined) return;
    if (!signal.isOn) socket.destroy();
    signal.sockets.add(socket);
    socket.on('close', () => signal.sockets.delete(socket));
  });
  const secret = randomBytes(32).toString('base64url');
  // Each device reaches the server as one that is everybody's, and as one where its member has signed in.
  const ways = { signal: {}, member: { scopes, authenticate: bySecret(secret) } } as const;
  for (const device of devices)
    for (const [way, options] of Object.entries(ways))
      await app.register(
        async (scope) => {
          // Without a signal nothing is heard, and nothing answered, not even with an error.
          scope.addHook('onRequest', async (request, reply) => {
            if (signals.get(device)?.isOn !== false) return;
            reply.hijack();
            request.raw.socket.destroy();
          });
          const observe = (moved: Moved) => tell({ device, ...moved });
          await scope.register(koinonPlugin, { store, rules, actions, observe, files: contents, ...options });
        },
        { prefix: `/${way}/${device}` },
      );
  app.get('/sign-in', async () => office.ask('SELECT id, name FROM member ORDER BY name').then(({ rows }) => rows));
  app.post('/sign-in', async (request) => ({
    token: await mintToken((request.body as { member: string }).member, secret),
  }));
  await app.register(koinonPlugin, { store, rules, actions, prefix: '/office' });

  app.post('/workbench/signal', async (request) => {
    const { device, isOn } = request.body as { device: Device; isOn: boolean };
    const signal = signals.get(device);
    if (signal === undefined) throw new KoinonError('not-found', `There is no device ${device}.`);
    signal.isOn = isOn;
    if (!isOn) for (const socket of signal.sockets) socket.destroy();
    tell({ what: 'signal', device, isOn });
    return { isOn };
  });
  app.post('/workbench/sql', async (request, reply) => {
    const { sql } = request.body as { sql: string };
    try {
      const asked = await office.ask(sql);
      tell({ what: 'office', sql, written: asked.written });
      return asked;
    } catch (error) {
      return reply.status(422).send({ message: (error as Error).message });
    }
  });
  app.get('/workbench/events', (_request, reply) => {
    reply.hijack();
    reply.raw.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-cache' });
    reply.raw.write(': open\n\n');
    watching.add(reply);
    reply.raw.on('close', () => watching.delete(reply));
  });
  for (const [name, prefix] of [
    ['workbench', '/'],
    ['field-app', '/field/'],
    ['board', '/board/'],
  ] as const)
    await app.register(staticFiles, { root: root(name), prefix, decorateReply: false });
  const url = await app.listen({ host: '127.0.0.1', port }).catch((error: { code?: string }) => {
    if (error.code !== 'EADDRINUSE') throw error;
    throw new KoinonError(
      'address-in-use',
      `Port ${port} is taken by another program; choose another with --page-port.`,
      {
        value: port,
      },
    );
  });
  return {
    url,
    ran: (statement) => tell({ what: 'sql', ...statement }),
    async close() {
      for (const reply of watching) reply.raw.end();
      await app.close();
    },
  };
}
