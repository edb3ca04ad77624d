const thrown = new WeakSet<object>();

/**
 * Runs a function that the app has given, such as a row check. An error that it throws is the app's own: it is remembered, and comes
 * out as it is.
 */
export function callApp<T>(work: () => T): T {
  try {
    return work();
  } catch (error) {
    if (typeof error === 'object' && error !== null) thrown.add(error);
    throw error;
  }
}

/** Tells whether an error was thrown by a function that the app has given. What is no object can be thrown by nothing else. */
export function isFromApp(error: unknown): boolean {
  return typeof error !== 'object' || error === null || thrown.has(error);
}
