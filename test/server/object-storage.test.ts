import { createHash, randomBytes } from 'node:crypto';
import { mkdtemp, rm } from 'node:fs/promises';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { DeleteObjectCommand, ListObjectsV2Command, S3Client } from '@aws-sdk/client-s3';
import { openReplica } from '@koinon/client';
import { folderContents, memoryContents, openFiles } from '@koinon/client/files';
import { file, schema, table } from '@koinon/core';
import { startServer } from '@koinon/server';
import { s3Storage } from '@koinon/server/s3';
import S3rver from 's3rver';
import { expect, onTestFinished, test } from 'vitest';
import { newDatabase } from '../support/stores.ts';
import { waitFor } from '../support/wait-for.ts';
import { never } from '../support/world.ts';

// Contents of files in object storage, which here is a stand-in of the registry that keeps objects in a folder.

const apiary = schema({ visit: table({ photo: file({ maximumBytes: 50_000_000 }) }) });

test('two servers keep photos in one bucket: large and small, in parts, through a loss and an outage', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'koinon-objects-'));
  const storage = new S3rver({
    ...{ port: 0, address: '127.0.0.1', silent: true, directory: join(folder, 'objects') },
    configureBuckets: [{ name: 'photos', configs: [] }],
  });
  const { port } = (await storage.run()) as AddressInfo;
  const client = new S3Client({
    ...{ endpoint: `http://127.0.0.1:${port}`, region: 'local', forcePathStyle: true, maxAttempts: 1 },
    credentials: { accessKeyId: 'S3RVER', secretAccessKey: 'S3RVER' },
    ...{ requestChecksumCalculation: 'WHEN_REQUIRED', responseChecksumValidation: 'WHEN_REQUIRED' },
  });
  const names = async () =>
    ((await client.send(new ListObjectsV2Command({ Bucket: 'photos' }))).Contents ?? []).map(({ Key = '' }) => Key);
  const database = await newDatabase('SQLite', folder);
  const place = { client, bucket: 'photos', prefix: 'hives/' };
  let isDown = false;
  const bucket = s3Storage({ ...place, uploads: join(folder, 'uploads') });
  const failing: typeof bucket = {
    ...bucket,
    put: (...given) =>
      isDown ? Promise.reject(new Error('connect ECONNREFUSED 10.0.0.7:9000')) : bucket.put(...given),
  };
  const first = await startServer({ store: await database.open(apiary), port: 0, files: failing });
  const second = await startServer({
    store: await database.open(apiary),
    port: 0,
    files: s3Storage({ ...place, uploads: join(folder, 'others') }),
  });
  const open = async (server: string, contents = memoryContents()) => {
    const replica = await openReplica({ schema: apiary, server, sync: { when: never, live: false } });
    const files = await openFiles(replica, { server, contents });
    onTestFinished(async () => {
      await files.close();
      await replica.close();
    });
    return { replica, files };
  };
  onTestFinished(async () => {
    await first.close();
    await second.close();
    await storage.close();
    await rm(folder, { recursive: true, force: true });
  });
  const one = await open(first.url, folderContents(join(folder, 'phone')));
  const sent = () =>
    waitFor(async () => expect(await one.files.waiting()).toEqual([]), { timeout: 60_000, interval: 50 });
  // More than one part of an upload to the storage.
  const bytes = randomBytes(20_000_000);
  const photo = await one.files.saveFile(bytes, { type: 'application/octet-stream' });
  await one.replica.insert('visit', { id: 'v', photo });
  await one.replica.sync();
  await sent();
  expect((await names()).map((name) => name.replace(/[0-9a-f]{40}/, 'place'))).toEqual(
    ['', '.json'].map((end) => `hives/${photo.id}/place${end}`),
  );
  const other = await open(second.url);
  await other.replica.sync();
  const digest = async (content: Blob) =>
    createHash('sha256')
      .update(Buffer.from(await content.arrayBuffer()))
      .digest('hex');
  expect(await digest(await other.files.openFile(photo))).toBe(photo.sha256);
  const query = new URLSearchParams({ table: 'visit', row: 'v', column: 'photo' });
  const part = await fetch(`${second.url}/v1/files/${photo.id}?${query}`, { headers: { range: 'bytes=1000-1009' } });
  expect([part.status, part.headers.get('content-range')]).toEqual([206, 'bytes 1000-1009/20000000']);
  expect(Buffer.from(await part.arrayBuffer())).toEqual(bytes.subarray(1_000, 1_010));
  // The storage does not answer: the content waits, and no word of its address reaches the device.
  isDown = true;
  const late = await one.files.saveFile(randomBytes(1_000), { type: 'application/octet-stream' });
  await one.replica.insert('visit', { id: 'w', photo: late });
  await one.replica.sync();
  await waitFor(async () => expect(await one.files.waiting()).toMatchObject([{ state: 'server-answer' }]));
  isDown = false;
  one.files.resume();
  await sent();
  expect(
    await digest(
      await other.files.openFile(late).catch(async () => {
        await other.replica.sync();
        return other.files.openFile(late);
      }),
    ),
  ).toBe(late.sha256);
  // The storage has lost the bytes of one, and not the note of it: the device that has it sends it again.
  const [content] = (await names()).filter((name) => name.includes(photo.id));
  await client.send(new DeleteObjectCommand({ Bucket: 'photos', Key: content }));
  expect((await fetch(`${second.url}/v1/files/${photo.id}?${query}`)).status).toBe(404);
});
