import { randomBytes } from 'node:crypto';
import { mkdtemp, rm } from 'node:fs/promises';
import { type AddressInfo, connect, createServer, type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openReplica, type Replica } from '@koinon/client';
import {
  type Contents,
  type Files,
  type FilesOptions,
  folderContents,
  memoryContents,
  openFiles,
} from '@koinon/client/files';
import { file, reference, schema, table, text } from '@koinon/core';
import { type FileStorage, folderStorage, type RunningServer, type Scopes, startServer } from '@koinon/server';
import { expect, onTestFinished } from 'vitest';
import { newDatabase, type StoreKind } from './stores.ts';
import { waitFor } from './wait-for.ts';
import { never } from './world.ts';

// A server and devices with photos and documents, and ways between them that break.

export const apiary = schema({
  site: table({ keeper: text({ filterable: true }), name: text() }),
  visit: table({
    site: reference('site', { filterable: true }),
    notes: text(),
    photo: file({ optional: true, types: ['image/*', 'text/plain'], maximumBytes: 20_000_000 }),
    paper: file({ optional: true }),
  }),
});
export type Apiary = typeof apiary;

export const photoOf = (size: number) =>
  new Blob([Buffer.from([0xff, 0xd8, 0xff]), randomBytes(size)], { type: 'image/jpeg' });
export const bytesOf = async (blob: Blob) => Buffer.from(await blob.arrayBuffer());

/** Everybody has the visits of his own sites, and nobody the papers but the office. */
export const scopes: Scopes<Apiary> = {
  site: { read: (user) => (['office', 'clerk'].includes(user?.id ?? '') ? 'all' : { keeper: user?.id ?? '' }) },
  visit: {
    with: 'site',
    // The clerk reads, and writes nothing.
    write: (_, { user }) => (user?.id === 'clerk' ? [{ message: 'is not yours' }] : undefined),
    withhold: (user) => (user?.id === 'office' ? [] : ['paper']),
  },
};

export interface Device {
  readonly replica: Replica<Apiary>;
  readonly files: Files<Apiary>;
  readonly contents: Contents;
}

export async function world(kind: StoreKind = 'SQLite', isScoped = false, keeping = (storage: FileStorage) => storage) {
  const folder = await mkdtemp(join(tmpdir(), 'koinon-files-'));
  const database = await newDatabase(kind, folder);
  const kept = join(folder, 'kept');
  const serve = async (port = 0) =>
    startServer({
      store: await database.open(apiary),
      port,
      files: keeping(folderStorage(kept)),
      ...(isScoped ? { scopes, authenticate: async (token: string) => ({ id: token, claims: {} }) } : {}),
    });
  const server: RunningServer = await serve();
  const devices: Device[] = [];
  let over = async () => server.close();
  onTestFinished(async () => {
    for (const { replica, files } of devices) {
      await files.close();
      await replica.close();
    }
    await over();
    await database.drop();
    await rm(folder, { recursive: true, force: true });
  });
  return {
    folder,
    kept,
    database,
    url: server.url,
    /** Stops the server, does something, and starts it again at its address. */
    async restart(meanwhile: () => Promise<void> = async () => undefined) {
      await over();
      await meanwhile();
      const again = await serve(Number(new URL(server.url).port));
      over = async () => again.close();
    },
    async device(
      options: Partial<FilesOptions<Apiary>> & { user?: string; file?: string; address?: string } = {},
    ): Promise<Device> {
      const { user, file: name, address = server.url, ...rest } = options;
      const token = user === undefined ? {} : { token: () => user };
      const replica = await openReplica({
        ...{ schema: apiary, server: server.url, sync: { when: never, live: false } },
        ...token,
        ...(name ? { file: join(folder, name) } : {}),
      });
      const contents = rest.contents ?? (name ? folderContents(join(folder, `${name}.files`)) : memoryContents());
      const files = await openFiles(replica, { server: address, ...token, ...rest, contents });
      const made = { replica, files, contents };
      devices.push(made);
      return made;
    },
  };
}

/** Waits until everything that a device has saved is on the server. */
export const sent = (device: Device) =>
  waitFor(async () => expect(await device.files.waiting()).toEqual([]), { timeout: 60_000, interval: 50 });

/** A way to the server that is cut each time that so many bytes have gone over it. */
export async function cutting(
  to: string,
  every: number,
  spoilt?: { left: number },
): Promise<{ url: string; up: () => number; down: () => number }> {
  const { port } = new URL(to);
  const counted = { up: 0, down: 0 };
  const server = createServer((from: Socket) => {
    const onto = connect(Number(port), '127.0.0.1');
    let passed = 0;
    const end = () => {
      from.destroy();
      onto.destroy();
    };
    const pass = (way: 'up' | 'down', into: Socket) => (bytes: Buffer) => {
      // A byte of the content changes on the way.
      if (way === 'up' && bytes.byteLength > 10_000 && spoilt && spoilt.left-- > 0)
        bytes[9_000] = (bytes[9_000] as number) ^ 1;
      const room = every - passed;
      passed += bytes.byteLength;
      counted[way] += Math.min(bytes.byteLength, Math.max(room, 0));
      if (passed <= every) into.write(bytes);
      else into.write(bytes.subarray(0, Math.max(room, 0)), end);
    };
    from.on('data', pass('up', onto)).on('error', end).on('close', end);
    onto.on('data', pass('down', from)).on('error', end).on('close', end);
  }).listen(0, '127.0.0.1');
  await new Promise((done) => server.on('listening', done));
  onTestFinished(() => void server.close());
  return {
    url: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    up: () => counted.up,
    down: () => counted.down,
  };
}
