import type { FileStorage } from './storage.ts';

/** The listeners of each storage. */
const listeners = new WeakMap<FileStorage, Set<() => void>>();

/** Calls when a content was stored through any server of this process that has the same storage. Returns a function that ends that. */
export function onStored(storage: FileStorage, listener: () => void): () => void {
  const known = listeners.get(storage) ?? new Set();
  listeners.set(storage, known.add(listener));
  return () => known.delete(listener);
}

/** A content was stored. */
export function announceStored(storage: FileStorage): void {
  for (const listener of [...(listeners.get(storage) ?? [])]) listener();
}
