import { createHmac, hkdfSync, randomBytes } from 'node:crypto';

/** A key that cursors are sealed by, as a database keeps it. */
export interface CursorKey {
  /** Counts up; it stands in each cursor. */
  readonly number: number;
  readonly secret: string;
  /** Milliseconds since 1970. */
  readonly madeAt: number;
}

/** Milliseconds until a new key is used: by then every process on the database has read it. */
const settling = 60_000;

/** A key, ready to be used. */
export interface ReadyKey {
  readonly number: number;
  readonly madeAt: number;
  readonly cipher: Buffer;
  readonly mac: Buffer;
}

/** The keys of a database: the newest seals cursors, each opens those that it has sealed. */
export class CursorKeys {
  private readonly root: string;
  private keys: readonly ReadyKey[];

  /** @param root stays as long as the database: tells its cursors from those of another, whatever their key. */
  constructor(root: string, keys: readonly CursorKey[]) {
    this.root = root;
    this.keys = keys.map(ready);
  }

  /** Takes what the database keeps by now. */
  replace(keys: readonly CursorKey[]): void {
    const known = new Map(this.keys.map((key) => [key.number, key]));
    this.keys = keys.map((key) => known.get(key.number) ?? ready(key));
  }

  /** The key for new cursors. */
  get current(): ReadyKey {
    const byNumber = [...this.keys].sort((one, other) => other.number - one.number);
    const settled = byNumber.find(({ madeAt }) => madeAt <= Date.now() - settling);
    return settled ?? (byNumber.at(-1) as ReadyKey);
  }

  /** The key of this number; undefined where it is not there, or not any more. */
  find(number: number): ReadyKey | undefined {
    return this.keys.find((key) => key.number === number);
  }

  /** Tells whether a key is newer than all that are known: the database was restored from before it was made. */
  isLater(number: number): boolean {
    return this.keys.every((key) => key.number < number);
  }

  /** By this the database knows its own cursors again. */
  lineage(text: string): string {
    return createHmac('sha256', this.root).update(text).digest('base64url').slice(0, 22);
  }
}

/** A new key, to be kept in the database. */
export function newCursorKey(number: number): CursorKey {
  return { number, secret: randomBytes(32).toString('base64url'), madeAt: Date.now() };
}

/** A key as the text that a database keeps it as. */
export const keyText = ({ secret, madeAt }: CursorKey): string => JSON.stringify({ secret, madeAt });

/** The keys among what a database keeps by name. */
export function keysOf(meta: readonly { readonly name: string; readonly value: string }[]): CursorKey[] {
  return meta.flatMap(({ name, value }) => {
    const number = /^cursor key (\d+)$/.exec(name)?.[1];
    return number === undefined
      ? []
      : [{ number: Number(number), ...(JSON.parse(value) as Omit<CursorKey, 'number'>) }];
  });
}

/** The name that a key is kept under. */
export const keyName = (number: number): string => `cursor key ${number}`;

/** The keys that nothing can be sealed by any more which is still taken: each has been followed for that long. */
export function outdated(keys: readonly CursorKey[], before: number): CursorKey[] {
  return keys.filter(({ number }) => keys.some((next) => next.number === number + 1 && next.madeAt < before));
}

function ready({ number, secret, madeAt }: CursorKey): ReadyKey {
  const derived = (use: string) => Buffer.from(hkdfSync('sha256', secret, '', `koinon cursor ${use}`, 32));
  return { number, madeAt, cipher: derived('cipher'), mac: derived('nonce') };
}
