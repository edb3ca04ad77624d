/**
 * The transactions whose writes are known, as PostgreSQL writes a `pg_snapshot`: all before `xmin`, and of those before
 * `xmax` all but the ones listed. Transaction ids are not in commit order, so a set and not a number is what a replica
 * has seen.
 */
export class Snapshot {
  readonly xmin: bigint;
  readonly xmax: bigint;
  private readonly running: ReadonlySet<bigint>;

  private constructor(xmax: bigint, running: readonly bigint[]) {
    const open = running.filter((id) => id < xmax).sort((a, b) => (a < b ? -1 : a > b ? 1 : 0));
    this.xmax = xmax;
    this.xmin = open[0] ?? xmax;
    this.running = new Set(open);
  }

  /** The snapshot of a reader who has seen nothing. */
  static readonly none = new Snapshot(1n, []);

  /** Reads `xmin:xmax:id,id`; undefined for anything else. */
  static parse(text: string): Snapshot | undefined {
    const parts = /^(\d{1,19}):(\d{1,19}):(\d{1,19}(?:,\d{1,19})*)?$/.exec(text);
    if (parts === null) return undefined;
    const [, , xmax = '0', list = ''] = parts;
    return new Snapshot(BigInt(xmax), list === '' ? [] : list.split(',').map(BigInt));
  }

  /** Tells whether what this transaction wrote is known. */
  sees(id: bigint): boolean {
    return id < this.xmax && !this.running.has(id);
  }

  /** Tells whether this sees all that another one does; of what is no snapshot nothing is known. */
  covers(other: Snapshot | undefined): boolean {
    if (other === undefined || other.xmax > this.xmax) return false;
    return [...this.running].every((id) => !other.sees(id));
  }

  /** Tells whether everything that another one sees is seen by this, even where that one has begun to count newer transactions. */
  includes(other: Snapshot): boolean {
    for (let id = this.xmax; id < other.xmax; id++) if (!other.running.has(id)) return false;
    return [...this.running].every((id) => !other.sees(id));
  }

  /** The snapshot known once, besides this, everything up to a transaction has been sent that a newer snapshot sees. */
  with(newer: Snapshot, upTo: bigint): Snapshot {
    const end = upTo < newer.xmax ? upTo + 1n : newer.xmax;
    const xmax = end > this.xmax ? end : this.xmax;
    const learned = (id: bigint) => id <= upTo && newer.sees(id);
    const open = [...this.running].filter((id) => !learned(id));
    for (const id of newer.running) if (id >= this.xmax && id < xmax) open.push(id);
    return new Snapshot(xmax, open);
  }

  toString(): string {
    return `${this.xmin}:${this.xmax}:${[...this.running].join(',')}`;
  }
}

/** The last row sent of a transaction that a page could not hold whole. */
export interface Within {
  readonly position: bigint;
  readonly table: string;
  readonly id: string;
}

/** How far a replica has come: what it knows, and how much of one transaction beyond that. */
export interface Reached {
  readonly known: Snapshot;
  readonly within?: Within;
}

/** A position in the feed as it stands in a cursor. */
export function writePosition({ known, within }: Reached): string {
  return within ? `${known} ${JSON.stringify([String(within.position), within.table, within.id])}` : String(known);
}

/** Reads a position; undefined for one that another kind of store wrote. */
export function readPosition(position: string): Reached | undefined {
  const space = position.indexOf(' ');
  const known = Snapshot.parse(space < 0 ? position : position.slice(0, space));
  if (known === undefined || space < 0) return known && { known };
  const parts = /^\["(\d+)",/.test(position.slice(space + 1)) ? position.slice(space + 1) : undefined;
  if (parts === undefined) return undefined;
  const [at, table, id] = JSON.parse(parts) as [string, string, string];
  return { known, within: { position: BigInt(at), table, id } };
}
