import type { AppliedOrigin, Problem } from '@koinon/core';
import type { Receipt, ReplicaOrigins } from './store.ts';

/** A receipt as both databases keep it; what they call its columns is theirs. */
export interface StoredReceipt {
  readonly id: string;
  readonly digest: string;
  /** `applied`, or the problems as JSON. */
  readonly outcome: string;
  /** A text where the database has larger whole numbers than JavaScript. */
  readonly position: number | string | null;
  readonly user_id: string | null;
  readonly replica: string | null;
}

/** The receipts that are to be written, together. */
export interface NewReceipts {
  /** Id, digest, outcome, position, user and replica of each. */
  readonly receipts: readonly (readonly [string, string, string, number | null, string | null, string | null])[];
  /** Replica, origin and receipt of each origin that is not named by its receipt. */
  readonly origins: readonly (readonly [string, string, string])[];
  /** How many transactions of each replica were applied. */
  readonly uploads: ReadonlyMap<string, number>;
}

/** The receipt that is kept so. */
export function receiptOf({ id, digest, outcome, position, user_id: user, replica }: StoredReceipt): Receipt {
  const became: Receipt['outcome'] =
    outcome === 'applied'
      ? { kind: 'applied', position: Number(position) }
      : { kind: 'rejected', problems: JSON.parse(outcome) as Problem[] };
  return { id, digest, user, replica, outcome: became };
}

const originKey = (replica: string | null, origin: string) => `${replica} ${origin}`;

/** Receipts in one database transaction: what was looked up beforehand, and what is written together at the end. */
export class ReceiptsAhead {
  /** Undefined for one that there is not. */
  private readonly receipts = new Map<string, Receipt | undefined>();
  /** By replica and origin; null for one that was not applied. */
  private readonly origins = new Map<string, string | null>();
  private unwritten: Receipt[] = [];

  /** Begins anew: the database transaction before may have been taken back. */
  forget(): void {
    this.receipts.clear();
    this.origins.clear();
    this.unwritten = [];
  }

  /** Notes what was found of all these ids. */
  noteReceipts(ids: readonly string[], found: readonly StoredReceipt[]): void {
    for (const id of ids) if (!this.receipts.has(id)) this.receipts.set(id, undefined);
    for (const stored of found) this.receipts.set(stored.id, receiptOf(stored));
  }

  /** Notes which of all these origins were applied. */
  noteOrigins({ replica, origins }: ReplicaOrigins, applied: readonly AppliedOrigin[]): void {
    for (const origin of origins) this.origins.set(originKey(replica, origin), null);
    for (const { origin, id } of applied) this.origins.set(originKey(replica, origin), id);
  }

  /** Tells whether it is known what became of a transaction. */
  has(id: string): boolean {
    return this.receipts.has(id);
  }

  get(id: string): Receipt | undefined {
    return this.receipts.get(id);
  }

  save(receipt: Receipt): void {
    this.receipts.set(receipt.id, receipt);
    this.unwritten.push(receipt);
    if (receipt.outcome.kind !== 'applied') return;
    for (const origin of receipt.origins ?? [receipt.id])
      this.origins.set(originKey(receipt.replica, origin), receipt.id);
  }

  /** Those of these origins that were applied; undefined where that is not known of all of them. */
  appliedOrigins({ replica, origins }: ReplicaOrigins): AppliedOrigin[] | undefined {
    const applied: AppliedOrigin[] = [];
    for (const origin of origins) {
      const id = this.origins.get(originKey(replica, origin));
      if (id === undefined) return undefined;
      if (id !== null) applied.push({ origin, id });
    }
    return applied;
  }

  /** Takes what is still to be written; undefined where there is nothing. */
  take(): NewReceipts | undefined {
    if (this.unwritten.length === 0) return undefined;
    const uploads = new Map<string, number>();
    const origins: NewReceipts['origins'][number][] = [];
    const receipts = this.unwritten.map(({ id, digest, user, replica, outcome, origins: given = [] }) => {
      if (outcome.kind === 'rejected')
        return [id, digest, JSON.stringify(outcome.problems), null, user, replica] as const;
      if (replica !== null) {
        uploads.set(replica, (uploads.get(replica) ?? 0) + 1);
        for (const origin of given) if (origin !== id) origins.push([replica, origin, id]);
      }
      return [id, digest, 'applied', outcome.position, user, replica] as const;
    });
    this.unwritten = [];
    return { receipts, origins, uploads };
  }
}
