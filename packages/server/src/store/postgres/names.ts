import { createHash } from 'node:crypto';

/** PostgreSQL cuts names off at so many bytes. */
const longest = 63;

/** A name within PostgreSQL's length; what is cut off a longer one is told apart by a digest. */
export function shortName(name: string): string {
  if (Buffer.byteLength(name) <= longest) return name;
  const digest = createHash('sha256').update(name).digest('hex').slice(0, 8);
  let kept = name;
  while (Buffer.byteLength(kept) > longest - 9) kept = [...kept].slice(0, -1).join('');
  return `${kept} ${digest}`;
}

/** The name, in the SQL schema of Koinon, of the function that a trigger of a table calls. */
export function triggerFunction(table: string, kind: string): string {
  return shortName(`${kind} ${table}`);
}
