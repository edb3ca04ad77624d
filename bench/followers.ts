import type { LiveMessage } from '@koinon/core';
import { WebSocket, WebSocketServer } from 'ws';

const replicaId = '01920000-0000-7000-8000-000000000000';

/** Waits until a socket is open. */
export const opened = (socket: WebSocket) => new Promise<void>((done) => socket.once('open', done));

/** The least server of WebSockets. */
export async function bareSockets(): Promise<WebSocketServer> {
  const server = new WebSocketServer({ port: 0, host: '127.0.0.1', perMessageDeflate: false });
  await new Promise<void>((done) => server.once('listening', done));
  return server;
}

/** Sockets that have joined a server, and what they count. */
export async function followers(url: string, count: number) {
  const pulled = await fetch(`${url}/v1/pull`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: '{}',
  });
  const { cursor } = JSON.parse((await pulled.text()).split('\n')[0] as string) as { cursor: string };
  let rows = 0;
  let broken = 0;
  const sockets: WebSocket[] = [];
  for (let n = 0; n < count; n += 200) {
    const some = Array.from(
      { length: Math.min(200, count - n) },
      () => new WebSocket(`${url.replace('http', 'ws')}/v1/live`),
    );
    await Promise.all(some.map(opened));
    await Promise.all(
      some.map(
        (socket) =>
          new Promise<void>((joined) => {
            let at = cursor;
            socket.on('message', (data) => {
              const message = JSON.parse(String(data)) as LiveMessage;
              if (message.type === 'joined') joined();
              if (message.type !== 'joined' && message.type !== 'window') return;
              if (message.from !== at) broken++;
              at = message.cursor;
              rows += message.rows.length;
            });
            socket.send(JSON.stringify({ join: 1, cursor, replica: replicaId }));
          }),
      ),
    );
    sockets.push(...some);
  }
  return {
    rows: () => rows,
    broken: () => broken,
    close() {
      for (const socket of sockets) socket.terminate();
    },
  };
}

/** Waits until something holds. */
export async function until(holds: () => boolean): Promise<void> {
  while (!holds()) await new Promise((done) => setTimeout(done, 1));
}
