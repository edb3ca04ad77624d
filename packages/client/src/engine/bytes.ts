import type { BytesSource, Schema } from '@koinon/core';

/** Tells whether a schema has columns of bytes: only then is it worth looking for sources of bytes in what is given. */
export function hasBytes(schema: Schema): boolean {
  return Object.values(schema.tables).some(({ entries }) => entries.some(([, { type }]) => type === 'bytes'));
}

/** The same with the bytes of every Blob in it; undefined if there is none. */
export function withBytes(given: readonly unknown[]): Promise<readonly unknown[]> | undefined {
  return holdsSource(given) ? (read(given) as Promise<readonly unknown[]>) : undefined;
}

function isSource(value: object): value is BytesSource {
  return typeof (value as Partial<BytesSource>).arrayBuffer === 'function';
}

function holdsSource(value: unknown): boolean {
  if (value === null || typeof value !== 'object' || ArrayBuffer.isView(value)) return false;
  if (Array.isArray(value)) return value.some(holdsSource);
  return isSource(value) || Object.values(value).some(holdsSource);
}

async function read(value: unknown): Promise<unknown> {
  if (value === null || typeof value !== 'object' || ArrayBuffer.isView(value)) return value;
  if (Array.isArray(value)) return Promise.all(value.map(read));
  if (isSource(value)) return new Uint8Array(await value.arrayBuffer());
  const members = await Promise.all(Object.entries(value).map(async ([name, member]) => [name, await read(member)]));
  return Object.fromEntries(members) as object;
}
