import type { Request } from '../remote/messages.ts';

/** A value as JSON holds it, with bytes and bigints, and nothing that could be taken for something else. */
type Packed =
  | { readonly v: unknown }
  | { readonly b: readonly number[] }
  | { readonly n: string }
  | { readonly a: readonly Packed[] }
  | { readonly o: Readonly<Record<string, Packed>> };

const prefix = (name: string) => `koinon ${name} unfinished `;

/**
 * Keeps calls whose page is going before they are answered. The browser's synchronous storage is the only one that a
 * page can still write to then.
 */
export function keepUnfinished(name: string, key: string, requests: readonly Request[]): void {
  if (requests.length === 0) return;
  localStorage.setItem(prefix(name) + key, JSON.stringify(requests.map(pack)));
}

/** The calls that pages have left unfinished. */
export function unfinished(name: string): readonly { readonly key: string; readonly requests: readonly Request[] }[] {
  return Object.keys(localStorage)
    .filter((key) => key.startsWith(prefix(name)))
    .sort()
    .map((key) => ({
      key: key.slice(prefix(name).length),
      requests: (JSON.parse(localStorage.getItem(key) ?? '[]') as Packed[]).map(unpack) as Request[],
    }));
}

/** Forgets what a page left unfinished. */
export function forgetUnfinished(name: string, key: string): void {
  localStorage.removeItem(prefix(name) + key);
}

function pack(value: unknown): Packed {
  if (typeof value === 'bigint') return { n: String(value) };
  if (value instanceof Uint8Array) return { b: [...value] };
  if (Array.isArray(value)) return { a: value.map(pack) };
  if (value === null || typeof value !== 'object') return { v: value };
  const members = Object.entries(value).filter(([, member]) => member !== undefined);
  return { o: Object.fromEntries(members.map(([name, member]) => [name, pack(member)])) };
}

function unpack(packed: Packed): unknown {
  if ('n' in packed) return BigInt(packed.n);
  if ('b' in packed) return new Uint8Array(packed.b);
  if ('a' in packed) return packed.a.map(unpack);
  if ('v' in packed) return packed.v;
  return Object.fromEntries(Object.entries(packed.o).map(([name, member]) => [name, unpack(member)]));
}
