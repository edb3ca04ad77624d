import type { FileValue } from '../table/file-value.ts';

// The description of a photo or document that a row holds. The content is kept beside the database.

const uuid = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/;
const digest = /^[0-9a-f]{64}$/;
const mediaType = /^[a-z0-9][a-z0-9!#$&^_.+-]{0,126}\/[a-z0-9][a-z0-9!#$&^_.+-]{0,126}$/;
const members = new Set(['id', 'sha256', 'bytes', 'type', 'name']);
/** Characters of a name at most. */
export const longestFileName = 255;

/** Tells whether a value is the description of a file, in the form in which it is kept. */
export function isFileValue(value: unknown): value is FileValue {
  if (typeof value !== 'object' || value === null || Array.isArray(value)) return false;
  const { id, sha256, bytes, type, name } = value as Readonly<Record<string, unknown>>;
  return (
    Object.keys(value).every((member) => members.has(member)) &&
    typeof id === 'string' &&
    uuid.test(id) &&
    typeof sha256 === 'string' &&
    digest.test(sha256) &&
    Number.isSafeInteger(bytes) &&
    (bytes as number) >= 0 &&
    typeof type === 'string' &&
    mediaType.test(type) &&
    (name === undefined || (typeof name === 'string' && isFileName(name)))
  );
}

/**
 * Tells whether a text can be the name of a file: no path, no control characters, and none that turn the direction of writing, which make one
 * ending look like another.
 */
export function isFileName(name: string): boolean {
  return (
    name !== '' &&
    name.length <= longestFileName &&
    name.isWellFormed() &&
    !/[/\\\p{Cc}\u200e\u200f\u202a-\u202e\u2066-\u2069]/u.test(name) &&
    !/^\.+$/.test(name)
  );
}

/** Tells whether a media type is one of a list, which may name a whole kind: `image/*`. */
export function isOfType(type: string, types: readonly string[]): boolean {
  return types.some((each) => each === type || (each.endsWith('/*') && type.startsWith(each.slice(0, -1))));
}

/** The same description with its members in the order in which it is kept. */
export function fileValue({ id, sha256, bytes, type, name }: FileValue): FileValue {
  return Object.freeze({ id, sha256, bytes, type, ...(name === undefined ? {} : { name }) });
}
