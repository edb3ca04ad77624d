import { createReadStream, mkdirSync } from 'node:fs';
import { rm } from 'node:fs/promises';
import type { Readable } from 'node:stream';
import {
  type _Object,
  DeleteObjectsCommand,
  GetObjectCommand,
  PutObjectCommand,
  paginateListObjectsV2,
  type S3Client,
} from '@aws-sdk/client-s3';
import { Upload } from '@aws-sdk/lib-storage';
import type { FileAsked } from '@koinon/core';
import { type ByteRange, type FileStorage, placeName, type StoredFile } from './storage.ts';

export type { ByteRange, FileStorage, StoredFile };

/** The place of contents in object storage that speaks S3. */
export interface S3Place {
  /** A client of the package `@aws-sdk/client-s3`, with the address of the storage and the right to its bucket. */
  readonly client: S3Client;
  /** The bucket, which is there already. */
  readonly bucket: string;
  /** The beginning of the names of all objects, such as `photos/`. Default none. */
  readonly prefix?: string;
  /** A folder of this machine for uploads that are under way. Machines that share no folder need requests of one device at one machine. */
  readonly uploads: string;
}

/** Bytes of a part of a large content on its way to the storage; parts go one after the other, so that little is in memory. */
const partBytes = 8_388_608;

/**
 * Keeps the contents of files in object storage that speaks S3, such as one has in most data centres. Each content is an object, and has a second
 * one that says what it is. Several server processes may share a bucket. Needs the packages `@aws-sdk/client-s3` and `@aws-sdk/lib-storage`.
 *
 * @example
 * import { S3Client } from '@aws-sdk/client-s3'
 * import { s3Storage } from '@koinon/server/s3'
 *
 * const client = new S3Client({ endpoint: 'http://127.0.0.1:4568', region: 'local', forcePathStyle: true })
 * await startServer({ store, files: s3Storage({ client, bucket: 'photos', uploads: 'server-uploads' }) })
 */
export function s3Storage({ client, bucket, prefix = '', uploads }: S3Place): FileStorage {
  mkdirSync(uploads, { recursive: true });
  const keyOf = (place: FileAsked) => `${prefix}${place.id}/${placeName(place)}`;
  const get = async (key: string, range?: string) => {
    const { Body } = await client.send(
      new GetObjectCommand({ Bucket: bucket, Key: key, ...(range && { Range: range }) }),
    );
    return Body as Readable;
  };
  const put = (key: string, body: Readable | string, type: string) =>
    typeof body === 'string'
      ? client.send(new PutObjectCommand({ Bucket: bucket, Key: key, Body: body, ContentType: type }))
      : new Upload({
          client,
          params: { Bucket: bucket, Key: key, Body: body, ContentType: type },
          queueSize: 1,
          partSize: partBytes,
        }).done();
  const note = async (file: StoredFile) => {
    await put(`${keyOf(file.place)}.json`, JSON.stringify(file), 'application/json');
  };
  /** The contents whose names begin so. The name of a note comes after that of its content. */
  async function* listed(start: string): AsyncGenerator<StoredFile> {
    let last: _Object | undefined;
    for await (const page of paginateListObjectsV2({ client }, { Bucket: bucket, Prefix: start }))
      for (const object of page.Contents ?? []) {
        const { Key: key = '' } = object;
        if (key === `${last?.Key}.json`) {
          const file = await noted(key);
          if (file?.bytes === last?.Size) yield file as StoredFile;
        }
        last = object;
      }
  }
  const noted = async (key: string): Promise<StoredFile | undefined> => {
    try {
      return JSON.parse(await textOf(await get(key))) as StoredFile;
    } catch (error) {
      // Removed meanwhile.
      if ((error as { name?: string }).name === 'NoSuchKey') return undefined;
      throw error;
    }
  };
  return {
    uploads,
    note,
    async find(id) {
      const found: StoredFile[] = [];
      for await (const file of listed(`${prefix}${id}/`)) found.push(file);
      return found;
    },
    read: ({ place }, range) => get(keyOf(place), range && `bytes=${range.start}-${range.end}`),
    async put(file, from) {
      await put(keyOf(file.place), createReadStream(from), 'application/octet-stream');
      // Only with this it counts as stored.
      await note(file);
      await rm(from, { force: true });
    },
    async remove({ place }) {
      const key = keyOf(place);
      const Objects = [{ Key: `${key}.json` }, { Key: key }];
      await client.send(new DeleteObjectsCommand({ Bucket: bucket, Delete: { Objects } }));
    },
    all: () => listed(prefix),
  };
}

async function textOf(stream: Readable): Promise<string> {
  const chunks: Buffer[] = [];
  for await (const chunk of stream) chunks.push(chunk as Buffer);
  return Buffer.concat(chunks).toString('utf8');
}
