import { createServer } from 'node:http';
import { connect } from 'node:net';
import {
  type ChangeEvent,
  type Host,
  httpTransport,
  openReplica,
  type Replica,
  type SyncOptions,
  systemHost,
  type Transport,
} from '@koinon/client';
import type { LiveMessage, ProblemDocument } from '@koinon/core';
import { koinonPlugin, startServer } from '@koinon/server';
import fastify from 'fastify';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import WebSocket from 'ws';
import { storeKinds } from '../support/stores.ts';
import { type Garden, garden, rowsOf, World } from '../support/world.ts';

// Changes anywhere arrive by themselves: between devices, from the server's own programs, and over bad connections.

let world: World;
let closing: (() => Promise<void>)[];

/** A replica that syncs by itself, and is live. */
async function live(
  options: {
    readonly file?: string;
    readonly server?: string | Transport;
    readonly sync?: SyncOptions;
    readonly host?: Host;
  } = {},
): Promise<Replica<Garden>> {
  const replica = await openReplica({
    schema: garden,
    ...(options.file && { file: world.path(options.file) }),
    server: options.server ?? world.server.url,
    sync: { minDelay: 50, maxDelay: 300, debounce: 0, ...options.sync },
    ...(options.host && { host: options.host }),
  });
  closing.push(() => replica.close());
  return replica;
}
const phaseOf = async (replica: Replica<Garden>) => {
  for await (const { rows } of replica.syncState()) return rows[0]?.phase;
};
const joined = (replica: Replica<Garden>) => expect.poll(() => phaseOf(replica)).toBe('live');
/** The same object, with some of its functions replaced. */
const passing = <T extends object>(to: T, instead: object): T =>
  new Proxy(to, {
    get(target, name) {
      const member: unknown = Reflect.get(name in instead ? instead : target, name);
      return typeof member === 'function' && !(name in instead) ? member.bind(target) : member;
    },
  });
const bed = { id: 'b', name: 'north' };
const plant = (id: string) => ({ id, bed: 'b', kind: 'herb' }) as const;

describe.each(storeKinds)('on %s', (kind) => {
  beforeEach(async () => {
    closing = [];
    world = await World.of(garden, kind);
    const first = await world.replica();
    await first.insert('bed', bed);
    await first.insertAll('plant', ['p', 'q'].map(plant));
    await first.sync();
  });
  afterEach(async () => {
    for (const close of closing.reverse()) await close();
    await world.end();
  });

  test('a change here is told there once, with the row before and after and where it came from; direct SQL too', async () => {
    const [one, two] = [await live(), await live()];
    await Promise.all([joined(one), joined(two)]);
    const heard: ChangeEvent<unknown>[] = [];
    const own: ChangeEvent<unknown>[] = [];
    two.listen('plant', (events) => heard.push(...events), { where: { height: { '>=': 5 } } });
    one.listen('plant', (events) => own.push(...events));
    await one.update('plant', 'p', { height: 7 });
    await expect.poll(() => heard.length).toBe(1);
    await one.add('plant', 'p', 'watered', 3);
    await expect.poll(() => heard.length).toBe(2);
    expect(heard[0]).toMatchObject({
      kind: 'update',
      id: 'p',
      before: { height: null },
      after: { height: 7 },
      origin: 'server',
    });
    await expect.poll(async () => (await one.status()).pending + (await one.outbox()).length).toBe(0);
    const shell = await world.shell();
    await shell.exec("UPDATE plant SET label = 'by the office' WHERE id = 'p'");
    await expect.poll(() => heard.length).toBe(3);
    expect(await one.get('plant', 'p')).toMatchObject({ height: 7, watered: 3, label: 'by the office' });
    await shell.exec("DELETE FROM plant WHERE id = 'p'");
    await expect.poll(() => heard.length).toBe(4);
    expect(heard[3]).toMatchObject({ kind: 'delete', id: 'p', before: { watered: 3 }, after: null, origin: 'server' });
    // Its own edits were told as its own, and did not come back as news.
    await expect.poll(() => own.length).toBe(4);
    expect(own.map(({ origin }) => origin)).toEqual(['device', 'device', 'server', 'server']);
    expect((await one.journal(1))[0]?.reason, 'nothing had to be pulled for that').toBe('change');
  });

  test('history 8: what a pull read earlier is not applied over a window that came in between, nor a window over a pull', async () => {
    const good = httpTransport(world.server.url);
    let hold: Promise<void> | undefined;
    const messages: LiveMessage[] = [];
    const transport: Transport = {
      ...good,
      pull: async (request, signal) => {
        const page = await good.pull(request, signal);
        await hold;
        return page;
      },
      live: (listener) =>
        (good.live as NonNullable<Transport['live']>)({
          ...listener,
          message(message) {
            messages.push(message);
            listener.message(message);
          },
        }),
    };
    const one = await live({ server: transport });
    await joined(one);
    const shell = await world.shell();
    const shown: unknown[] = [];
    one.live({ from: 'plant', where: { id: 'p' } }).subscribe(({ rows }) => shown.push(rows[0]?.height));
    let release = () => {};
    hold = new Promise((resolve) => {
      release = resolve;
    });
    await shell.exec("UPDATE plant SET height = 40 WHERE id = 'p'");
    const pulling = one.sync({ direction: 'pull' });
    await new Promise((resolve) => setTimeout(resolve, 100));
    await shell.exec("UPDATE plant SET height = 45 WHERE id = 'p'");
    await new Promise((resolve) => setTimeout(resolve, 400));
    hold = undefined;
    release();
    await pulling;
    await expect.poll(() => shown.at(-1)).toBe(45);
    await new Promise((resolve) => setTimeout(resolve, 100));
    const heights = shown.filter((height) => typeof height === 'number') as number[];
    expect(heights).toEqual([...heights].sort((a, b) => a - b));
    await joined(one);
    await shell.exec("UPDATE plant SET height = 50 WHERE id = 'p'");
    await expect.poll(() => shown.at(-1)).toBe(50);
  });

  test.each(['over HTTP', 'over the connection', 'over the connection, which breaks'])(
    'the window that brings an own change whose answer was lost %s waits for that answer: nothing is counted twice',
    async (way) => {
      const good = httpTransport(world.server.url);
      const sent: string[] = [];
      const one = await live({
        server: {
          ...good,
          push: async (body, signal) => {
            const answer = await good.push(body, signal);
            sent.push(`HTTP ${body}`);
            if (way === 'over HTTP' && sent.length === 1) throw new Error('the reply was lost');
            return answer;
          },
          live: (listener) => {
            const hear = (message: LiveMessage) => {
              if (message.type !== 'pushed') listener.message(message);
              else if (way === 'over the connection') listener.message({ ...message, problem: {} as ProblemDocument });
              else listener.closed();
            };
            const channel = (good.live as NonNullable<Transport['live']>)({ ...listener, message: hear });
            const { push, ...without } = channel;
            const pushing = (number: number, body: string) => {
              sent.push(`socket ${body}`);
              push?.(number, body);
            };
            return way === 'over HTTP' ? without : { ...channel, push: pushing };
          },
        },
        sync: { minDelay: 500 },
      });
      await joined(one);
      const shown: number[] = [];
      one.live({ from: 'plant', where: { id: 'p' } }).subscribe(({ rows: [row] }) => row && shown.push(row.watered));
      await one.add('plant', 'p', 'watered', 3);
      await expect.poll(async () => (await one.outbox()).length).toBe(0);
      await joined(one);
      expect([...new Set(shown)]).toEqual([0, 3]);
      expect((await one.get('plant', 'p'))?.watered).toBe(3);
      // The same bytes, whichever way they went.
      expect(sent.map((each) => each.split(' ')[0])).toEqual([way === 'over HTTP' ? 'HTTP' : 'socket', 'HTTP']);
      expect(new Set(sent.map((each) => each.replace(/^\w+ /, ''))).size).toBe(1);
    },
  );

  test('over connections that are cut again and again nothing is missed, doubled or told twice', async () => {
    const sockets = new Set<{ destroy(): void }>();
    const port = Number(new URL(world.server.url).port);
    const { createServer: listen } = await import('node:net');
    const proxy = listen((socket) => {
      const through = connect(port, '127.0.0.1');
      sockets.add(socket);
      socket.pipe(through).pipe(socket);
      for (const each of [socket, through]) each.on('error', () => each.destroy());
      socket.on('close', () => sockets.delete(socket));
    });
    await new Promise<void>((done) => proxy.listen(0, '127.0.0.1', done));
    const url = `http://127.0.0.1:${(proxy.address() as { port: number }).port}`;
    const [one, two] = [await live({ server: url }), await live()];
    await Promise.all([joined(one), joined(two)]);
    const told: number[] = [];
    one.listen(
      'plant',
      (events) => {
        for (const { origin, after } of events)
          if (origin === 'server') told.push((after as { watered: number }).watered);
      },
      { where: { id: 'p' } },
    );
    for (let n = 1; n <= 40; n++) {
      await two.add('plant', 'p', 'watered', 1);
      await one.add('plant', 'q', 'watered', 1);
      if (n % 8 === 0) for (const socket of sockets) socket.destroy();
      await new Promise((resolve) => setTimeout(resolve, 15));
    }
    const shell = await world.shell();
    await expect
      .poll(async () => [(await one.get('plant', 'p'))?.watered, (await two.get('plant', 'q'))?.watered])
      .toEqual([40, 40]);
    expect([...new Set(told)]).toEqual(told);
    expect(told).toEqual([...told].sort((a, b) => a - b));
    await expect.poll(async () => JSON.stringify(await rowsOf(one))).toBe(JSON.stringify(await rowsOf(two)));
    expect(await rowsOf(one)).toEqual(await rowsOf(shell));
    await joined(one);
    proxy.close();
  });

  test('where no WebSocket gets through, long requests take its place', async () => {
    const proxy = createServer((request, response) => {
      void (async () => {
        const parts: Buffer[] = [];
        for await (const part of request) parts.push(part as Buffer);
        const answer = await fetch(`${world.server.url}${request.url}`, {
          method: request.method as string,
          ...(request.method === 'POST' && {
            body: Buffer.concat(parts),
            headers: { 'content-type': 'application/json' },
          }),
        });
        response.writeHead(answer.status, { 'content-type': answer.headers.get('content-type') ?? '' });
        response.end(await answer.text());
      })().catch(() => response.destroy());
    });
    await new Promise<void>((done) => proxy.listen(0, '127.0.0.1', done));
    const one = await live({
      server: `http://127.0.0.1:${(proxy.address() as { port: number }).port}`,
      sync: { interval: 600_000 },
    });
    const shell = await world.shell();
    for (const height of [1, 2, 3]) {
      await shell.exec(`UPDATE plant SET height = ${height} WHERE id = 'p'`);
      await expect.poll(async () => (await one.get('plant', 'p'))?.height).toBe(height);
    }
    await one.close();
    proxy.closeAllConnections();
    proxy.close();
  });

  test('a burst reaches all, a reader that does not read is told to pull and held for nothing, and then both hold the same', async () => {
    const replicas = await Promise.all([1, 2, 3].map(() => live()));
    await Promise.all(replicas.map(joined));
    const slow = new WebSocket(`${world.server.url.replace('http', 'ws')}/v1/live`);
    await new Promise((open) => slow.once('open', open));
    const { lines } = await world.request('/v1/pull', {});
    const [header] = lines as unknown as [{ cursor: string }];
    slow.send(JSON.stringify({ join: 1, cursor: header.cursor, replica: '01920000-0000-7000-8000-000000000000' }));
    await new Promise((told) => slow.once('message', told));
    slow.pause();
    const shell = await world.shell();
    const text = 'x'.repeat(1_000);
    for (let n = 0; n < 10; n++) {
      const values = Array.from({ length: 1_000 }, (_, i) => `('m${n}-${i}', 'b', 'herb', '${text}', 1, 0, '[]')`);
      await shell.exec(`INSERT INTO plant (id, bed, kind, label, height, watered, tags) VALUES ${values.join(', ')}`);
    }
    for (const replica of replicas) await expect.poll(() => replica.count({ from: 'plant' })).toBe(10_002);
    const heard: LiveMessage[] = [];
    slow.on('message', (data) => heard.push(JSON.parse(String(data)) as LiveMessage));
    slow.resume();
    await expect.poll(() => heard.at(-1)?.type).toBe('pull-required');
    slow.terminate();
  });

  test('a server that stops sends its replicas to another one, and nothing is missed meanwhile', async () => {
    const one = await live();
    await joined(one);
    const shell = await world.shell();
    await world.restart(garden, () => shell.exec("UPDATE plant SET height = 9 WHERE id = 'p'"));
    await expect.poll(async () => (await one.get('plant', 'p'))?.height).toBe(9);
    await joined(one);
    // Another process on the same database hears of what was pushed here.
    const store = await world.database.open(garden);
    const other = await startServer({ store, port: 0 });
    const two = await live({ server: other.url });
    await joined(two);
    await two.update('plant', 'p', { height: 10 });
    await expect.poll(async () => (await one.get('plant', 'p'))?.height).toBe(10);
    await one.update('plant', 'p', { height: 11 });
    await expect.poll(async () => (await two.get('plant', 'p'))?.height).toBe(11);
    await two.close();
    await other.close();
  });

  test('a database that is away for a moment leaves those who follow in their places; one that was put back has them pull', async () => {
    let state: 'away' | 'here' | 'put back' = 'here';
    const wavering = passing(world.store, {
      read: async (work: (reader: object) => unknown) => {
        if (state === 'away') throw new Error('the connection was cut');
        return world.store.read(async (reader) => {
          const earlier = async () => world.store.positionAt(1);
          return work(state === 'put back' ? passing(reader, { position: earlier }) : reader);
        });
      },
    });
    const app = fastify({ forceCloseConnections: true });
    await app.register(koinonPlugin, { store: wavering });
    const url = await app.listen({ port: 0, host: '127.0.0.1' });
    const { header } = await httpTransport(world.server.url).pull({});
    const socket = new WebSocket(`${url.replace('http', 'ws')}/v1/live`);
    const heard: LiveMessage[] = [];
    socket.on('message', (data) => heard.push(JSON.parse(String(data))));
    await new Promise((done) => socket.once('open', done));
    const replica = '00000000-0000-4000-8000-000000000001';
    const join = () => socket.send(JSON.stringify({ join: 1, cursor: header.cursor, replica }));
    join();
    await expect.poll(() => heard.at(-1)?.type).toBe('joined');
    const shell = await world.shell();
    state = 'away';
    await shell.exec("UPDATE plant SET height = 3 WHERE id = 'p'");
    await new Promise((done) => setTimeout(done, 400));
    expect(heard).toHaveLength(1);
    state = 'here';
    await expect.poll(() => heard.at(-1), { timeout: 3_000 }).toMatchObject({ type: 'window', rows: [{ id: 'p' }] });
    expect(heard).toHaveLength(2);
    state = 'put back';
    await shell.exec("UPDATE plant SET height = 4 WHERE id = 'p'");
    await expect.poll(() => heard.at(-1)?.type).toBe('pull-required');
    state = 'here';
    join();
    await expect.poll(() => heard.at(-1)?.type).toBe('joined');
    await app.close();
    expect(heard.at(-1)).toEqual({ type: 'restarting', within: 1_000 });
  });

  test('replicas come back over the time that a server names which stops; an edit comes back at once, and needs no pull', async () => {
    const good = httpTransport(world.server.url);
    let pulls = 0;
    let lose: (farewell?: LiveMessage) => void = () => undefined;
    const transport: Transport = {
      ...good,
      pull: (...given) => {
        pulls++;
        return good.pull(...given);
      },
      push: () => Promise.reject(new Error('an edit goes over the connection')),
      live(listener) {
        const channel = (good.live as NonNullable<Transport['live']>)(listener);
        lose = (farewell) => {
          if (farewell) listener.message(farewell);
          channel.close();
          listener.closed();
        };
        return channel;
      },
    };
    const waits: number[] = [];
    const host: Host = {
      ...systemHost,
      random: () => 0.9,
      after(milliseconds, then) {
        waits.push(milliseconds);
        return systemHost.after(milliseconds, then);
      },
    };
    const one = await live({ server: transport, host, sync: { maxDelay: 300_000 } });
    await joined(one);
    const before = pulls;
    for (const farewell of [undefined, { type: 'restarting', within: 40_000 } as const]) {
      lose(farewell);
      await one.update('plant', 'p', { height: waits.length });
      await joined(one);
      await expect.poll(async () => (await one.status()).pending).toBe(0);
    }
    expect(waits).toContain(36_000);
    expect(pulls).toBe(before);
  });

  test('the timer has a replica pull that is live only once in ten times', async () => {
    const good = httpTransport(world.server.url);
    let pulls = 0;
    const pull: Transport['pull'] = (...given) => {
      pulls++;
      return good.pull(...given);
    };
    const one = await live({ server: { ...good, pull }, sync: { interval: 100 } });
    await joined(one);
    const before = pulls;
    await new Promise((done) => setTimeout(done, 500));
    expect(pulls).toBe(before);
    await expect.poll(() => pulls, { timeout: 3_000 }).toBe(before + 1);
    await one.close();
    // Changes of other tables come with a sync.
    const two = await live({ server: { ...good, pull }, sync: { interval: 100, live: { tables: ['bed'] } } });
    await joined(two);
    const from = pulls;
    await expect.poll(() => pulls, { timeout: 3_000 }).toBeGreaterThan(from + 5);
  });

  test('when the last one leaves and another joins while the feed is being read, that one gets a cursor that is good', async () => {
    let goOn = () => {};
    let isReading = () => {};
    let held: Promise<void> | undefined;
    const slow = passing(world.store, {
      read: (work: (reader: object) => unknown) =>
        world.store.read(async (reader) =>
          work(
            passing(reader, {
              changesSince: async (...given: Parameters<typeof reader.changesSince>) => {
                isReading();
                await held;
                return reader.changesSince(...given);
              },
            }),
          ),
        ),
    });
    const app = fastify({ forceCloseConnections: true });
    await app.register(koinonPlugin, { store: slow });
    const url = await app.listen({ port: 0, host: '127.0.0.1' });
    const good = httpTransport(world.server.url);
    const { header } = await good.pull({});
    const join = async () => {
      const socket = new WebSocket(`${url.replace('http', 'ws')}/v1/live`);
      const answer = new Promise<LiveMessage>((told) => socket.on('message', (data) => told(JSON.parse(String(data)))));
      await new Promise((done) => socket.once('open', done));
      const replica = '00000000-0000-4000-8000-000000000001';
      socket.send(JSON.stringify({ join: 1, cursor: header.cursor, replica }));
      return { socket, answer };
    };
    const first = await join();
    expect((await first.answer).type).toBe('joined');
    const reading = new Promise<void>((done) => {
      isReading = done;
    });
    held = new Promise((done) => {
      goOn = done;
    });
    const other = await join();
    await reading;
    for (const { socket } of [first, other]) socket.terminate();
    await new Promise((done) => setTimeout(done, 50));
    const second = await join();
    await new Promise((done) => setTimeout(done, 50));
    goOn();
    const answer = await second.answer;
    expect(answer.type).toBe('joined');
    await good.pull({ cursor: 'cursor' in answer ? answer.cursor : '' });
    second.socket.terminate();
    await app.close();
  });

  test('live for one table: what others change comes along with it; a device that slept catches up', async () => {
    let now = 0;
    const states: string[] = [];
    const one = await live({
      sync: { live: { tables: ['bed'] }, interval: 600_000 },
      host: { ...systemHost, now: () => Date.now() + now, debug: (state) => states.push(state) },
    });
    await joined(one);
    expect(states.filter((state) => state.startsWith('live'))).toEqual(
      ['connecting', 'open', 'joining', 'joined'].map((name) => `live connection: ${name}`),
    );
    expect(states).toContain('sync: pulling');
    const shell = await world.shell();
    await shell.exec("UPDATE plant SET height = 1 WHERE id = 'p'");
    await new Promise((resolve) => setTimeout(resolve, 400));
    expect((await one.get('plant', 'p'))?.height).toBeNull();
    await shell.exec("UPDATE bed SET name = 'south' WHERE id = 'b'");
    await expect.poll(async () => (await one.get('bed', 'b'))?.name).toBe('south');
    expect((await one.get('plant', 'p'))?.height).toBe(1);
    now = 3_600_000;
    await shell.exec("UPDATE bed SET name = 'east' WHERE id = 'b'");
    await one.sync();
    await joined(one);
    await shell.exec("UPDATE bed SET name = 'west' WHERE id = 'b'");
    await expect.poll(async () => (await one.get('bed', 'b'))?.name).toBe('west');
  });
});
