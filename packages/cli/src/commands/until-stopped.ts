/** Waits for Ctrl-C or the system's request to end; a second one ends the process at once. */
export function untilStopped(): Promise<void> {
  return new Promise((done) => {
    for (const signal of ['SIGINT', 'SIGTERM'] as const) process.once(signal, () => done());
  });
}
