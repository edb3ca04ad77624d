import { readdirSync, readFileSync } from 'node:fs';

// Processor time is what noise moves least, and what a battery pays. Processes that have ended count for their parent.

/** Ticks of Linux's clock of processes in a second. */
const ticks = 100;

/** Bytes of a page of memory, as Linux counts what is resident. */
const pageBytes = 4_096;

/** Seconds that a process and all that it has started have used; undefined where the system does not tell. */
export function processorSeconds(of = process.pid): number | undefined {
  const all = processes();
  if (all === undefined) return undefined;
  // The clock of this process is finer than the system's of others.
  const { user, system } = process.cpuUsage();
  let sum = of === process.pid ? (user + system) / 1e6 : 0;
  for (const [id, { used }] of all) if (isOf(of, id, all)) sum += used;
  return sum;
}

/** Megabytes that a process and all that it has started hold in memory; undefined where the system does not tell. */
export function residentMegabytes(of: number): number | undefined {
  const all = processes();
  if (all === undefined) return undefined;
  let sum = 0;
  for (const [id, { resident }] of all) if (isOf(of, id, all)) sum += resident;
  return sum;
}

/** Seconds that were used for what does not count. */
let left = 0;

/** Does work that belongs to neither side's figure, such as filling a queue: its processor time does not count. */
export async function uncounted<T>(work: () => Promise<T> | T): Promise<T> {
  const before = processorSeconds();
  try {
    return await work();
  } finally {
    left += (processorSeconds() ?? 0) - (before ?? 0);
  }
}

/** The same as {@link processorSeconds}, without what does not count. */
export function countedSeconds(): number | undefined {
  const used = processorSeconds();
  return used === undefined ? undefined : used - left;
}

/** A process of the machine. */
interface Process {
  readonly parent: number;
  /** Seconds of processor time; of this process, only those of ended children. */
  readonly used: number;
  /** Megabytes. */
  readonly resident: number;
}

function processes(): ReadonlyMap<number, Process> | undefined {
  const found = new Map<number, Process>();
  try {
    for (const name of readdirSync('/proc')) {
      if (!/^\d+$/.test(name)) continue;
      const each = processOf(name);
      if (each !== undefined) found.set(Number(name), each);
    }
  } catch {
    return undefined;
  }
  return found;
}

function processOf(id: string): Process | undefined {
  try {
    const text = readFileSync(`/proc/${id}/stat`, 'utf8');
    // The name stands in brackets, and may hold anything.
    const fields = text
      .slice(text.lastIndexOf(')') + 2)
      .split(' ')
      .map(Number);
    const [parent, user, system, childUser, childSystem, pages] = [1, 11, 12, 13, 14, 21].map(
      (n) => fields[n] as number,
    ) as [number, number, number, number, number, number];
    const own = Number(id) === process.pid ? 0 : user + system;
    return { parent, used: (own + childUser + childSystem) / ticks, resident: (pages * pageBytes) / 1e6 };
  } catch {
    // It has ended meanwhile.
    return undefined;
  }
}

function isOf(ancestor: number, id: number, all: ReadonlyMap<number, Process>): boolean {
  for (let at: number | undefined = id; at !== undefined && at > 1; at = all.get(at)?.parent)
    if (at === ancestor) return true;
  return false;
}
