/**
 * Waits for statements that went out together, in their order. PostgreSQL answers those behind one that failed with errors of their own:
 * the first one says what was the matter.
 *
 * @throws the error of the first that failed.
 */
export async function together<const T extends readonly unknown[]>(
  ...statements: T
): Promise<{ -readonly [K in keyof T]: Awaited<T[K]> }> {
  const ended = await Promise.allSettled(statements);
  for (const each of ended) if (each.status === 'rejected') throw each.reason;
  return Promise.all(statements);
}
