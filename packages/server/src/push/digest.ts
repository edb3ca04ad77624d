import { hash } from 'node:crypto';
import type { UploadedTransaction, WireChange } from '@koinon/core';
import stringify from 'safe-stable-stringify';

/**
 * The content of a transaction, apart from what its replica knew when it sent it: that may have advanced between two sendings.
 * SHA-256 over its canonical JSON, the members in the order of their names.
 */
export function digestOf({ id, editedAt, changes, actions }: UploadedTransaction): string {
  if (actions !== undefined) {
    // The rows that an action is expected to change are not what it is.
    const calls = actions.map(({ refersTo: _, ...call }) => call);
    return hash('sha256', stringify({ id, editedAt, changes, actions: calls }) as string, 'base64url');
  }
  const canonical = changes.every(isFlat)
    ? JSON.stringify({ changes: changes.map(ordered), editedAt, id })
    : (stringify({ id, editedAt, changes }) as string);
  return hash('sha256', canonical, 'base64url');
}

/** Tells whether only its columns have to be put in order. */
function isFlat({ columns, operations }: WireChange): boolean {
  if (operations !== undefined) return false;
  for (const name in columns) if (typeof columns[name] === 'object' && columns[name] !== null) return false;
  return columns === undefined || !Object.hasOwn(columns, '__proto__');
}

/** The same with its members in the order of their names. */
function ordered({ columns, id, kind, table }: WireChange): unknown {
  if (columns === undefined) return { id, kind, table };
  const sorted: Record<string, unknown> = {};
  for (const name of Object.keys(columns).sort()) sorted[name] = columns[name];
  return { columns: sorted, id, kind, table };
}
