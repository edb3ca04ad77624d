import { diffIndices } from 'node-diff3';

/** Some lines of the base, and what one side has in their place. */
interface Hunk {
  readonly from: number;
  readonly to: number;
  readonly lines: readonly string[];
}

/** Steps that comparing two texts may take, a fraction of a second: it is done while somebody waits. */
const mostSteps = 200_000_000;

/**
 * Joins two texts that came from one, line by line: the three-way merge that programs of version control use (S. Khanna,
 * K. Kunal, B. C. Pierce, "A formal investigation of diff3", 2007); the two comparisons are a package's. Undefined where both
 * changed the same lines, or lines next to each other, differently, and where comparing them would take too long: thousands
 * of equal lines that were changed at both ends, say.
 */
export function mergeLines(base: string, local: string, remote: string): string | undefined {
  const before = base.split('\n');
  const mine = changesOf(before, local.split('\n'));
  const theirs = changesOf(before, remote.split('\n'));
  if (mine === undefined || theirs === undefined) return undefined;
  const merged: (readonly string[])[] = [];
  let at = 0;
  while (mine.length > 0 || theirs.length > 0) {
    const from = Math.min(mine[0]?.from ?? before.length, theirs[0]?.from ?? before.length);
    // Regions that overlap, or touch, are one.
    let to = from;
    const own: Hunk[] = [];
    const other: Hunk[] = [];
    for (let hasGrown = true; hasGrown; ) {
      hasGrown = false;
      for (const [hunks, region] of [
        [mine, own],
        [theirs, other],
      ] as const)
        while (hunks[0] !== undefined && hunks[0].from <= to) {
          const hunk = hunks.shift() as Hunk;
          region.push(hunk);
          to = Math.max(to, hunk.to);
          hasGrown = true;
        }
    }
    const local = regionOf(before, from, to, own);
    const remote = regionOf(before, from, to, other);
    if (own.length > 0 && other.length > 0 && !isSame(local, remote)) return undefined;
    merged.push(before.slice(at, from), own.length > 0 ? local : remote);
    at = to;
  }
  return [...merged, before.slice(at)].flat().join('\n');
}

/** No lines are not the same as one empty line. */
function isSame(some: readonly string[], others: readonly string[]): boolean {
  return some.length === others.length && some.every((line, i) => line === others[i]);
}

/** The lines that a side has in the place of a region. */
function regionOf(before: readonly string[], from: number, to: number, hunks: readonly Hunk[]): string[] {
  const lines: (readonly string[])[] = [];
  let at = from;
  for (const hunk of hunks) {
    lines.push(before.slice(at, hunk.from), hunk.lines);
    at = hunk.to;
  }
  return [...lines, before.slice(at, to)].flat();
}

/** The changed regions, in order. Only what lies between the first line that differs and the last one is compared. */
function changesOf(before: readonly string[], after: readonly string[]): Hunk[] | undefined {
  const shorter = Math.min(before.length, after.length);
  let head = 0;
  while (head < shorter && before[head] === after[head]) head++;
  let tail = 0;
  while (tail < shorter - head && before.at(-1 - tail) === after.at(-1 - tail)) tail++;
  const [old, now] = [before, after].map((lines) => lines.slice(head, lines.length - tail)) as [string[], string[]];
  if (stepsFor(old, now) > mostSteps) return undefined;
  return diffIndices(old, now).map(({ buffer1: [start, length], buffer2Content }) => ({
    from: head + start,
    to: head + start + length,
    lines: buffer2Content,
  }));
}

/** About how many steps the package takes: for each pair of equal lines it looks through what it has found so far. */
function stepsFor(old: readonly string[], now: readonly string[]): number {
  const counts = new Map<string, number>();
  for (const line of old) counts.set(line, (counts.get(line) ?? 0) + 1);
  const pairs = now.reduce((sum, line) => sum + (counts.get(line) ?? 0), 0);
  return pairs * Math.min(old.length, now.length);
}
