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

/** Prints a value as JSON, for programs. */
export function printJson(value: unknown): void {
  console.log(JSON.stringify(value, null, 2));
}

/** A value on one line, not too long. */
export function short(value: unknown): string {
  const text = typeof value === 'string' ? value : JSON.stringify(value);
  return text.length > 60 ? `${text.slice(0, 59)}…` : text;
}
