import { sha256 } from '@noble/hashes/sha2.js';
import { bytesToHex } from '@noble/hashes/utils.js';
import type { StreamingDigest } from './digest-node.ts';

/** Begins one where there is no digest of the platform's that is fed piece by piece. */
export function streamingDigest(): StreamingDigest {
  const hash = sha256.create();
  return { update: (chunk) => void hash.update(chunk), result: () => bytesToHex(hash.digest()) };
}
