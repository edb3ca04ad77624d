import { readdirSync, readFileSync } from 'node:fs';

// Processor time is what noise moves least, and what a battery pays. Processes that have ended count for their parent.

/** Ticks of Linux's clock of processes in a second. */
const ticks = 100;

/** Seconds that this process and all that it has started have used; undefined where the system does not tell. */
export function processorSeconds(): number | undefined {
  const parents = new Map<number, { readonly parent: number; readonly used: number }>();
  try {
    for (const name of readdirSync('/proc')) {
      if (!/^\d+$/.test(name)) continue;
      const stat = statOf(name);
      if (stat !== undefined) parents.set(Number(name), stat);
    }
  } catch {
    return undefined;
  }
  const { user, system } = process.cpuUsage();
  let sum = (user + system) / 1e6 + (parents.get(process.pid)?.used ?? 0);
  for (const [id, { used }] of parents) if (id !== process.pid && isOurs(id, parents)) sum += used;
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

/** The parent of a process, and the seconds that it has used; of this process, only those of ended children. */
function statOf(id: string): { readonly parent: number; readonly used: number } | undefined {
  try {
    const text = readFileSync(`/proc/${id}/stat`, 'utf8');
    // The name stands in brackets, and may hold anything.
    const fields = text
      .slice(text.lastIndexOf(')') + 2)
      .split(' ')
      .map(Number);
    const [parent, user, system, childUser, childSystem] = [1, 11, 12, 13, 14].map((n) => fields[n] as number);
    const own = Number(id) === process.pid ? 0 : (user as number) + (system as number);
    return { parent: parent as number, used: (own + (childUser as number) + (childSystem as number)) / ticks };
  } catch {
    // It has ended meanwhile.
    return undefined;
  }
}

function isOurs(id: number, parents: ReadonlyMap<number, { readonly parent: number }>): boolean {
  for (let at: number | undefined = id; at !== undefined && at > 1; at = parents.get(at)?.parent)
    if (at === process.pid) return true;
  return false;
}
