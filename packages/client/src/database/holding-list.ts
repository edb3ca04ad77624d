import type { RowKey } from '@koinon/core';
import { rowKey } from '@koinon/core/internal';
import type { Database } from './database.ts';
import { meta, setMeta } from './layout.ts';

// The list of what a replica asks for beside its option `only`: holdings of the app, and single rows.

/**
 * The state of a holding: its rows are `arriving`; they are `here`; it was let go and something of its rows is unsent, so that it is still asked for:
 * `leaving`; it is asked for no more, and a download is to take its rows away: `dropping`.
 */
export type HoldingState = 'arriving' | 'here' | 'leaving' | 'dropping';

/** A holding as the file keeps it. */
export interface StoredHolding {
  /** The name that the app has given it. */
  readonly name: string;
  readonly from: string;
  /** The condition; null for all rows of the table. */
  readonly where: Readonly<Record<string, unknown>> | null;
  readonly state: HoldingState;
}

/** The whole list. */
export const holdingList = (database: Database): readonly StoredHolding[] =>
  JSON.parse(meta(database, 'holdings') ?? '[]') as StoredHolding[];

/** The row that an entry without a name asks for: one that the app does not ask for, and into which something was typed. */
export const singleRow = ({ name, from, where }: StoredHolding): RowKey | undefined =>
  name === '' ? { table: from, id: where?.id as string } : undefined;

/** Characters of the ids of all single rows together: each request carries them. */
const mostCharacters = 100_000;

/**
 * Asks for rows that the app does not ask for, until nothing of them is unsent. Their changes are not sent before they have come: others may have
 * written them. Returns those for which there is no room.
 */
export function askForRows(database: Database, rows: readonly RowKey[]): readonly RowKey[] {
  if (rows.length === 0) return [];
  const asked = new Set(rows.map(rowKey));
  const others = holdingList(database).filter((holding) => {
    const row = singleRow(holding);
    return row === undefined || !asked.has(rowKey(row));
  });
  let characters = others.reduce((sum, holding) => sum + (singleRow(holding)?.id.length ?? 0), 0);
  const added: StoredHolding[] = [];
  const left: RowKey[] = [];
  for (const row of rows) {
    characters += row.id.length;
    if (characters > mostCharacters) left.push(row);
    else added.push({ name: '', from: row.table, where: { id: row.id }, state: 'arriving' });
  }
  setMeta(database, 'holdings', JSON.stringify([...others, ...added]));
  return left;
}

/** The single rows that are asked for and have not come. */
export const awaitedRows = (database: Database): readonly RowKey[] =>
  holdingList(database).flatMap((holding) => (holding.state === 'arriving' ? (singleRow(holding) ?? []) : []));
