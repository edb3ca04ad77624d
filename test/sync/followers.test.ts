import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import WebSocket from 'ws';
import { storeKinds } from '../support/stores.ts';
import { type Garden, garden, World } from '../support/world.ts';

// Followers of the feed that are no replicas: programs that read it, and whoever says whatever on the socket.

let world: World<Garden>;

describe.each(storeKinds)('on %s', (kind) => {
  beforeEach(async () => {
    world = await World.of(garden, kind);
    const first = await world.replica();
    await first.insert('bed', { id: 'b', name: 'north' });
    await first.insertAll(
      'plant',
      ['p', 'q'].map((id) => ({ id, bed: 'b', kind: 'herb' }) as const),
    );
    await first.sync();
  });
  afterEach(() => world.end());

  test('programs without a replica read the feed as JSON Lines, and follow it as events from wherever they were cut off', async () => {
    const url = `${world.server.url}/v1/feed`;
    const read = async (query: string) =>
      (await (await fetch(`${url}${query}`)).text())
        .trimEnd()
        .split('\n')
        .map(
          (line) =>
            JSON.parse(line) as { kind?: string; table?: string; id?: string; cursor?: string; position: number },
        );
    const all = await read('');
    expect(
      all
        .map(({ table, id }) => `${table} ${id}`)
        .slice(0, -1)
        .sort(),
    ).toEqual(['bed b', 'plant p', 'plant q']);
    const { cursor = '' } = all.at(-1) ?? {};
    const shell = await world.shell();
    await shell.exec("UPDATE plant SET height = 5 WHERE id = 'p'; DELETE FROM plant WHERE id = 'q'");
    const next = (await read(`?after=${cursor}`)).slice(0, -1);
    expect(next).toMatchObject([
      { kind: 'update', id: 'p', columns: { height: 5 } },
      { kind: 'delete', id: 'q', columns: { kind: 'herb' } },
    ]);
    expect((await read(`?after=${cursor}&kind=delete&table=plant`)).slice(0, -1)).toHaveLength(1);
    expect((await fetch(`${url}?after=nonsense`)).status).toBe(409);
    expect((await fetch(`${url}?kind=move`)).status).toBe(400);

    const follow = async (
      headers: Record<string, string>,
      query: string,
      count: number,
      meanwhile: () => Promise<void>,
    ) => {
      const over = new AbortController();
      const response = await fetch(`${url}?follow=true${query}`, { headers, signal: over.signal });
      expect(response.headers.get('content-type')).toBe('text/event-stream');
      const reader = (response.body as ReadableStream<Uint8Array>).getReader();
      const decoder = new TextDecoder();
      let text = '';
      let hasBegun = false;
      while (text.split('\n\n').filter((event) => event.startsWith('event')).length < count) {
        const chunk = await reader.read();
        if (chunk.done) throw new Error(`the events ended: ${text}`);
        text += decoder.decode(chunk.value, { stream: true });
        if (!hasBegun) await meanwhile();
        hasBegun = true;
      }
      over.abort();
      return text;
    };
    const text = await follow({}, `&after=${cursor}`, 3, () =>
      shell.exec("UPDATE bed SET name = 'south' WHERE id = 'b'"),
    );
    expect(text).toMatch(
      /event: update\n.*"id":"p"[\s\S]*event: delete\nid: .*\n.*"id":"q"[\s\S]*event: update\nid: .*\n.*"name":"south"/,
    );
    const last = /id: (.*)/.exec(text.split('\n\n')[1] ?? '')?.[1] as string;
    const again = await follow({ 'last-event-id': last }, '', 1, async () => undefined);
    expect(again, 'only what came after the last event').toContain('south');
    expect(again).not.toContain('"id":"p"');
  });

  test('whatever is said on the socket, it is answered with a problem and changes nothing; pages of other origins are not let in', async () => {
    const url = `${world.server.url.replace('http', 'ws')}/v1/live`;
    const answer = (said: string, origin?: string) =>
      new Promise((resolve) => {
        const socket = new WebSocket(url, origin ? { origin } : {});
        socket.on('open', () => socket.send(said));
        socket.on('message', (data) => {
          const message = JSON.parse(String(data)) as { type: string; problem?: { code: string } };
          resolve(message.problem?.code ?? message.type);
          socket.close();
        });
        socket.on('unexpected-response', (_request, response) => resolve(response.statusCode));
        socket.on('error', resolve);
      });
    /** The answers to messages on one connection that has joined, each said when the one before was answered. */
    const saidOn = (messages: readonly object[], isAtOnce: boolean) =>
      new Promise<string[]>((resolve) => {
        const socket = new WebSocket(url);
        const answers: string[] = [];
        socket.on('open', () => socket.send(JSON.stringify({ join: 1, cursor, replica })));
        socket.on('message', (data) => {
          const message = JSON.parse(String(data)) as {
            type: string;
            problem?: { code: string };
            outcomes?: { outcome: string }[];
          };
          // Its own transaction comes by the feed as well.
          if (message.type === 'window') return;
          const next = messages.slice(answers.length, isAtOnce ? undefined : answers.length + 1);
          answers.push(message.problem?.code ?? message.outcomes?.[0]?.outcome ?? message.type);
          if (answers.length > messages.length) socket.close();
          else if (!isAtOnce || answers.length === 1) for (const each of next) socket.send(JSON.stringify(each));
        });
        socket.on('close', (code) =>
          resolve(answers.length > messages.length || code === 4_000 ? answers : [...answers, `closed ${code}`]),
        );
      });
    const said = (...messages: object[]) => saidOn(messages, false);
    const saidAtOnce = (...messages: object[]) => saidOn(messages, true);
    const { lines } = await world.request('/v1/pull', {});
    const [{ cursor }] = lines as unknown as [{ cursor: string }];
    const replica = '01920000-0000-7000-8000-000000000000';
    expect(await answer(JSON.stringify({ join: 1, cursor, replica }))).toBe('joined');
    for (const said of [
      '',
      '{',
      '[]',
      '{"join":1}',
      JSON.stringify({ join: 1, cursor: 7, replica }),
      JSON.stringify({ join: 1, cursor, replica: 'x' }),
      JSON.stringify({ join: 1, cursor, replica, tables: [7] }),
    ])
      expect(await answer(said), said).toBe('malformed-request');
    expect(await answer(JSON.stringify({ join: 1, cursor: `${cursor}x`, replica }))).toBe('unknown-cursor');
    const change = { kind: 'insert', table: 'bed', id: 'pushed', columns: { name: 'pushed' } };
    const pushed = (id: string, ...changes: unknown[]) => ({
      replica,
      base: cursor,
      transactions: [{ id, editedAt: '2026-06-01T10:00:00.000Z', dependsOn: [], changes }],
    });
    const [good, other] = ['01920000-0000-7000-8000-000000000001', '01920000-0000-7000-8000-000000000002'] as const;
    expect(await answer(JSON.stringify({ push: 1, request: pushed(good, change) })), 'before it has joined').toBe(
      'malformed-request',
    );
    expect((await world.request('/v1/pull', { cursor })).lines).toHaveLength(1);
    expect(await said({ push: 'x' })).toEqual(['joined', 'malformed-request']);
    // A mistake in a push is told, and the connection goes on.
    expect(
      await said(
        { push: 1 },
        { push: 2, request: { ...pushed(good, change), extra: 1 } },
        { push: 3, request: pushed(good, { ...change, table: 'none' }) },
        { push: 4, request: { ...pushed(good, change), base: `${cursor}x` } },
        { push: 5, request: pushed(other, change) },
        { push: 6, request: pushed(other, change) },
        { push: 7, request: pushed(other, { ...change, id: 'else' }) },
      ),
    ).toEqual([
      'joined',
      ...['malformed-request', 'malformed-request', 'deferred', 'unknown-cursor', 'applied', 'applied', 'rejected'],
    ]);
    const rows = (await world.request('/v1/pull', { cursor })).lines.slice(1);
    expect(rows).toMatchObject([{ kind: 'insert', table: 'bed', id: 'pushed' }]);
    // One at a time; not larger than is said.
    expect(await saidAtOnce({ push: 1, request: pushed(other, change) }, { push: 2, request: {} })).toEqual([
      'joined',
      'too-many-requests',
      'applied',
    ]);
    expect(await said({ push: 1, request: 'x'.repeat(65 * 1024) })).toEqual(['joined', 'closed 1009']);
    expect(await answer('{}', 'http://elsewhere.example')).toBe(403);
    expect(await answer(JSON.stringify({ join: 1, cursor, replica }), 'http://localhost:5173')).toBe('joined');
    // A client that sends on and reads nothing is cut off before its answers pile up.
    let taken = 0;
    await world.restart(undefined, undefined, { observe: ({ what }) => what === 'push' && taken++ });
    const deaf = new WebSocket(url);
    const isCut = new Promise<number>((done) => deaf.on('close', done));
    await new Promise((done) => deaf.once('open', done));
    deaf.send(JSON.stringify({ join: 1, cursor, replica }));
    await new Promise((done) => deaf.once('message', done));
    deaf.pause();
    const wrong = Array.from({ length: 900 }, (_, n) => ({ kind: 'delete', table: 'bed', id: `\0 nobody ${n}` }));
    for (let n = 0, before = -1; n < 400 && taken > before; n++) {
      const id = `01920000-0000-7000-8000-${String(n).padStart(12, '0')}`;
      before = taken;
      deaf.send(JSON.stringify({ push: n, request: pushed(id, ...wrong) }));
      // Each is taken up before the next one is sent, until none is any more.
      for (let waited = 0; taken === before && waited < 300; waited++)
        await new Promise((done) => setTimeout(done, 10));
    }
    deaf.resume();
    expect(await isCut).toBe(1006);
    // Nor more than the server takes: the upgrade and the join count as well.
    await world.restart(undefined, undefined, { requestsPerMinute: 6 });
    const many = Array.from({ length: 6 }, (_, n) => ({ push: n, request: pushed(other, change) }));
    expect(await said(...many)).toEqual([
      'joined',
      ...Array(4).fill('applied'),
      ...['too-many-requests', 'too-many-requests'],
    ]);
  });
});
