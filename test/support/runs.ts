/**
 * How many histories a property tries: few in `npm test`, many in `npm run simulate`. A failure prints its seed and the
 * smallest history that shows it.
 */
export function runs(few: number): { readonly numRuns: number } {
  return { numRuns: few * Number(process.env.KOINON_SIMULATE ?? 1) };
}
