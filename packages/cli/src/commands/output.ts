import Table from 'cli-table3';
import pc from 'picocolors';

/** Prints rows as a table, or says that there are none. */
export function printTable(
  head: readonly string[],
  rows: readonly (readonly (string | number)[])[],
  none: string,
): void {
  if (rows.length === 0) {
    console.log(none);
    return;
  }
  const table = new Table({ head: head.map((word) => pc.bold(word)), style: { head: [], border: [], compact: true } });
  table.push(...rows.map((row) => [...row]));
  console.log(table.toString());
}

/** Prints a value as JSON, for programs. Bytes are base64 in it. */
export function printJson(value: unknown): void {
  console.log(JSON.stringify(value, readable, 2));
}

const readable = (_name: string, value: unknown) =>
  value instanceof Uint8Array ? Buffer.from(value).toString('base64') : value;

/** A value on one line, not too long. */
export function short(value: unknown): string {
  if (value instanceof Uint8Array) return `${value.byteLength} bytes`;
  const text = typeof value === 'string' ? value : JSON.stringify(value, readable);
  return text.length > 60 ? `${text.slice(0, 59)}…` : text;
}
