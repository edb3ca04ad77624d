import { hash } from 'node:crypto';
import type { ActionCall, UploadedTransaction, WireChange, WireColumns } from '@koinon/core';
import stringify from 'safe-stable-stringify';

/**
 * The content of a transaction, apart from what its replica knew when it sent it: that may have advanced between two sendings.
 * SHA-256 over its canonical JSON, the members in the order of their names.
 */
export function digestOf({ id, editedAt, changes, actions }: UploadedTransaction): string {
  // The rows that an action is expected to change are not what it is.
  const calls = actions?.map(({ after, id, input, name }) => ({ after, id, input, name }));
  const isOrdered = changes.every(isFlat) && (actions ?? []).every(({ input }) => areFlat(input));
  const canonical = isOrdered
    ? JSON.stringify({ actions: calls?.map(orderedCall), changes: changes.map(ordered), editedAt, id })
    : (stringify({ actions: calls, changes, editedAt, id }) as string);
  return hash('sha256', canonical, 'base64url');
}

/** Tells whether only its columns have to be put in order. */
function isFlat({ columns, operations }: WireChange): boolean {
  return operations === undefined && (columns === undefined || areFlat(columns));
}

function areFlat(columns: WireColumns): boolean {
  for (const name in columns) if (typeof columns[name] === 'object' && columns[name] !== null) return false;
  return !Object.hasOwn(columns, '__proto__');
}

/** The same with its members in the order of their names. */
function ordered({ columns, id, kind, table }: WireChange): unknown {
  return columns === undefined ? { id, kind, table } : { columns: inOrder(columns), id, kind, table };
}

function orderedCall(call: Omit<ActionCall, 'refersTo'>): unknown {
  return { ...call, input: inOrder(call.input) };
}

function inOrder(columns: WireColumns): WireColumns {
  const sorted: Record<string, WireColumns[string]> = {};
  for (const name of Object.keys(columns).sort()) sorted[name] = columns[name] as WireColumns[string];
  return sorted;
}
