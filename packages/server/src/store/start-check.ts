import type { Store } from './store.ts';
import { type TrackingFault, unfollowed } from './tracking.ts';

/** Rows of each table that are looked at. */
const sample = 1_000;

/** Looks at some rows of each table when a server starts: what other programs wrote while nothing followed the table is told. */
export async function checkAtStart(store: Store, report: (fault: TrackingFault) => void): Promise<void> {
  for (const table of Object.keys(store.schema.tables)) {
    const { unknown, gone } = await store.read((reader) => reader.unfollowedRows(table, sample));
    if (unknown + gone > 0) report(unfollowed(table, unknown, gone));
  }
}
