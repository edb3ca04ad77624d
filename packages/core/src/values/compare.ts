/**
 * Compares two texts by code point, which is the order of their UTF-8 bytes and so SQLite's BINARY order; JavaScript's
 * own `<` compares UTF-16 units and puts U+FF5E after an emoji.
 */
export function compareText(a: string, b: string): number {
  const length = Math.min(a.length, b.length);
  for (let i = 0; i < length; i++) {
    let x = a.charCodeAt(i);
    let y = b.charCodeAt(i);
    if (x !== y) {
      // Surrogates stand for code points above all other units: lift them over the rest.
      if (x >= 0xd800 && y >= 0xd800) {
        x = x >= 0xe000 ? x - 0x800 : x + 0x2000;
        y = y >= 0xe000 ? y - 0x800 : y + 0x2000;
      }
      return x - y;
    }
  }
  return a.length - b.length;
}

/** Compares two byte strings as SQL does: byte by byte, the shorter first. */
export function compareBytes(a: Uint8Array, b: Uint8Array): number {
  const length = Math.min(a.length, b.length);
  for (let i = 0; i < length; i++) {
    const difference = (a[i] as number) - (b[i] as number);
    if (difference !== 0) return difference;
  }
  return a.length - b.length;
}

/** Compares two values of one column that are not null; booleans count as 0 and 1. */
export function compareValues(a: unknown, b: unknown): number {
  if (typeof a === 'string' && typeof b === 'string') return compareText(a, b);
  if (a instanceof Uint8Array && b instanceof Uint8Array) return compareBytes(a, b);
  if (typeof a === 'bigint' && typeof b === 'bigint') return a < b ? -1 : a > b ? 1 : 0;
  return Number(a) - Number(b);
}

/**
 * Tells whether two values of one column are the same: by content, members of objects in any order.
 *
 * @example
 * const isSame = sameValue(new Uint8Array([1]), new Uint8Array([1])) // true
 */
export function sameValue(a: unknown, b: unknown): boolean {
  if (a === b) return true;
  if (a === null || b === null || typeof a !== 'object' || typeof b !== 'object') return false;
  if (a instanceof Uint8Array || b instanceof Uint8Array)
    return a instanceof Uint8Array && b instanceof Uint8Array && compareBytes(a, b) === 0;
  if (Array.isArray(a) || Array.isArray(b))
    return Array.isArray(a) && Array.isArray(b) && a.length === b.length && a.every((x, i) => sameValue(x, b[i]));
  const left = Object.entries(a);
  return (
    left.length === Object.keys(b).length &&
    left.every(([key, value]) => Object.hasOwn(b, key) && sameValue(value, (b as Record<string, unknown>)[key]))
  );
}
