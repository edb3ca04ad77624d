import type { Column } from '../table/column.ts';
import type { Schema } from './schema.ts';

/**
 * A digest of the types of some columns, those that the schema knows: two schemas in which they have the same types have the
 * same one. FNV-1a (Fowler, Noll, Vo), 32 bits, over two seeds: it tells mistakes apart, and keeps nothing secret.
 *
 * @param columns by table.
 */
export function columnsDigest({ tables }: Schema, columns: Readonly<Record<string, readonly string[]>>): string {
  const lines = Object.entries(columns).flatMap(([table, names]) => {
    const known = Object.hasOwn(tables, table) ? tables[table]?.columns : undefined;
    return names.flatMap((name) =>
      known && Object.hasOwn(known, name) ? [`${JSON.stringify([table, name])} ${typeOf(known[name] as Column)}`] : [],
    );
  });
  const text = lines.sort().join();
  return [0x811c9dc5, 0x01000193].map((seed) => hash(text, seed)).join('');
}

/** A decimal number of other digits after the point would be another text. */
const typeOf = ({ type, scale }: Column) => (scale === undefined ? type : `${type} ${scale}`);

function hash(text: string, seed: number): string {
  let value = seed;
  for (let i = 0; i < text.length; i++) value = Math.imul(value ^ text.charCodeAt(i), 0x01000193);
  return (value >>> 0).toString(16).padStart(8, '0');
}
