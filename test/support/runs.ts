/** The time that a property has, in milliseconds, seven times that in `npm run long`, before the test itself would be ended without a word of what it had found. */
const most = 240_000;

/**
 * How many histories a property tries: few in `npm test`, many in `npm run simulate`. A failure prints its seed and the
 * smallest history that was found in the time.
 */
export function runs(few: number) {
  const times = Number(process.env.KOINON_SIMULATE ?? 1);
  return {
    numRuns: few * times,
    interruptAfterTimeLimit: most * Math.min(times, 7),
    markInterruptAsFailure: true,
  } as const;
}
