import { diff3Merge } from 'node-diff3';

/**
 * Joins two texts that came from one, line by line: the three-way merge that programs of version control use (S. Khanna,
 * K. Kunal, B. C. Pierce, "A formal investigation of diff3", 2007), by a package. Undefined where both changed the same
 * lines, or lines next to each other, differently.
 */
export function mergeLines(base: string, local: string, remote: string): string | undefined {
  const parts = diff3Merge(local.split('\n'), base.split('\n'), remote.split('\n'), { excludeFalseConflicts: true });
  const lines: string[] = [];
  for (const { ok } of parts) {
    if (ok === undefined) return undefined;
    lines.push(...ok);
  }
  return lines.join('\n');
}
