import { WebSocket } from 'ws';

// Connections that rest, in a process of their own, so that the server's memory is its own alone.
const [url = '', count = '0', joins] = process.argv.slice(2);
const address = joins ? `${url.replace('http', 'ws')}/v1/live` : url;
let cursor = '';
if (joins) {
  const pulled = await fetch(`${url}/v1/pull`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: '{}',
  });
  ({ cursor } = JSON.parse((await pulled.text()).split('\n')[0] as string) as { cursor: string });
}
for (let n = 0; n < Number(count); n += 100)
  await Promise.all(
    Array.from({ length: 100 }, () => {
      const socket = new WebSocket(address);
      return new Promise<void>((done) => {
        socket.on('open', () => {
          if (!joins) done();
          else socket.send(JSON.stringify({ join: 1, cursor, replica: '01920000-0000-7000-8000-000000000000' }));
        });
        socket.on('message', () => done());
      });
    }),
  );
console.log('ready');
setInterval(() => undefined, 1_000);
