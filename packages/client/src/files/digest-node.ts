import { createHash } from 'node:crypto';

/** A SHA-256 that is fed piece by piece; the result has hexadecimal digits. */
export interface StreamingDigest {
  update(chunk: Uint8Array): void;
  result(): string;
}

/** Begins one. */
export function streamingDigest(): StreamingDigest {
  const hash = createHash('sha256');
  return { update: (chunk) => void hash.update(chunk), result: () => hash.digest('hex') };
}
