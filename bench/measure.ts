import { countedSeconds } from './processor-time.ts';

/** One line of the bench: the same work done bare and by Koinon. */
export interface BenchRow {
  readonly row: string;
  readonly unit: string;
  /**
   * The bound for Koinon's figure divided by the floor's, or for the figure itself where its unit is given: at least or at
   * most. Without it the row only shows how work grows.
   */
  readonly reach?: Reach;
  /** Rounds that count; 5 without it. */
  readonly rounds?: number;
  /** Prepares both sides; each `run` does the work once more and returns its figure in the row's unit. */
  prepare(): Promise<{ floor(): Promise<number> | number; koinon(): Promise<number> | number; close(): Promise<void> }>;
}

/** A bound of a ratio, or of Koinon's own figure. */
export type Reach = ({ readonly least: number } | { readonly most: number }) & { readonly of?: 'figure' };

/** A measured row. */
export interface Measured {
  readonly row: string;
  readonly unit: string;
  readonly floor: number;
  readonly koinon: number;
  readonly ratio: number;
  /** Processor time of all processes involved, Koinon's divided by the floor's; null where there is none, or the system does not tell. */
  readonly processor: number | null;
  readonly reach: string;
  readonly holds: boolean;
  /** Seconds that all rounds took. */
  readonly took: number;
}

const usualRounds = 5;

/** Seconds of processor time below which its clock is too coarse for a ratio. */
const leastUsed = 0.2;

/** Runs the two sides in turn, several rounds after one that does not count; the ratio is the median of the rounds' ratios. */
export async function measure(row: BenchRow): Promise<Measured> {
  const began = performance.now();
  const sides = await row.prepare();
  try {
    const floors: number[] = [];
    const koinons: number[] = [];
    const used = { floor: 0, koinon: 0 };
    const rounds = row.rounds ?? usualRounds;
    for (let round = 0; round <= rounds; round++) {
      // The order changes: the second side finds warmer caches.
      const order = round % 2 === 0 ? (['floor', 'koinon'] as const) : (['koinon', 'floor'] as const);
      const figures = { floor: 0, koinon: 0 };
      for (const side of order) {
        globalThis.gc?.();
        const before = countedSeconds();
        figures[side] = await sides[side]();
        const after = countedSeconds();
        if (round > 0 && before !== undefined && after !== undefined) used[side] += after - before;
      }
      if (round === 0) continue;
      floors.push(figures.floor);
      koinons.push(figures.koinon);
    }
    const ratio = median(koinons.map((figure, i) => figure / (floors[i] as number)));
    const { reach } = row;
    const least = reach && 'least' in reach ? reach.least : Number.NEGATIVE_INFINITY;
    const most = reach && 'most' in reach ? reach.most : Number.POSITIVE_INFINITY;
    const what = reach?.of === 'figure' ? ' (figure)' : '';
    const words = reach === undefined ? '-' : 'least' in reach ? `>= ${least}${what}` : `<= ${most}${what}`;
    const judged = reach?.of === 'figure' ? median(koinons) : ratio;
    return {
      row: row.row,
      unit: row.unit,
      floor: round3(median(floors)),
      koinon: round3(median(koinons)),
      ratio: round3(ratio),
      processor: used.floor > leastUsed ? round3(used.koinon / used.floor) : null,
      reach: words,
      holds: judged >= least && judged <= most,
      took: Math.round((performance.now() - began) / 100) / 10,
    };
  } finally {
    await sides.close();
  }
}

/** How often something happened per second. */
export async function perSecond(times: number, work: () => Promise<void> | void): Promise<number> {
  const start = performance.now();
  await work();
  return (times / (performance.now() - start)) * 1000;
}

function median(figures: readonly number[]): number {
  const sorted = [...figures].sort((a, b) => a - b);
  return sorted[sorted.length >> 1] as number;
}

function round3(figure: number): number {
  return Number(figure.toPrecision(3));
}
