import type { AppliedOrigin, Problem, WireColumns } from '@koinon/core';
import type { Receipt, ReplicaOrigins } from './store.ts';
import { together } from './together.ts';

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
  /** Receipt, id and result of each action. */
  readonly results: readonly (readonly [string, string, WireColumns])[];
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

/** The receipts and the applied origins that a database holds of those that were asked for. */
export interface Stored {
  readonly receipts: readonly StoredReceipt[];
  readonly origins: readonly AppliedOrigin[];
}

/** The part of a store that keeps receipts in its database, inside the open database transaction. */
export interface ReceiptStorage {
  /** Keeps others from applying one of these ids or origins before this database transaction ends. */
  lockIds(ids: readonly string[]): void | Promise<void>;
  /** The receipts of these ids that there are, and those of these origins that were applied. */
  storedReceipts(ids: readonly string[], of: ReplicaOrigins): Promise<Stored>;
  /** Writes receipts into the same transaction as the rows. */
  insertReceipts(receipts: NewReceipts): void | Promise<void>;
}

const originKey = (replica: string | null, origin: string) => `${replica} ${origin}`;

/** The receipts of one database transaction: what was looked up beforehand, and what is written together at its end. */
export class Receipts {
  private readonly storage: ReceiptStorage;
  /** Undefined for one that there is not. */
  private readonly receipts = new Map<string, Receipt | undefined>();
  /** By replica and origin; null for one that was not applied. */
  private readonly origins = new Map<string, string | null>();
  private unwritten: Receipt[] = [];

  constructor(storage: ReceiptStorage) {
    this.storage = storage;
  }

  /** Begins anew: the database transaction before may have been taken back. */
  forget(): void {
    this.receipts.clear();
    this.origins.clear();
    this.unwritten = [];
  }

  /** Looks up at once what will be asked for one by one. */
  async lookUp(ids: readonly string[], of: ReplicaOrigins): Promise<void> {
    const { replica, origins } = of;
    // The second waits in the database, behind the lock.
    const [, stored] = await together(
      this.storage.lockIds([...new Set([...ids, ...origins])]),
      this.storage.storedReceipts(ids, of),
    );
    for (const id of ids) if (!this.receipts.has(id)) this.receipts.set(id, undefined);
    for (const receipt of stored.receipts) this.receipts.set(receipt.id, receiptOf(receipt));
    for (const origin of origins) this.origins.set(originKey(replica, origin), null);
    for (const { origin, id } of stored.origins) this.origins.set(originKey(replica, origin), id);
  }

  /** The receipt of a transaction; undefined where there is none, and none comes from others before this transaction ends. */
  async get(id: string): Promise<Receipt | undefined> {
    if (this.receipts.has(id)) return this.receipts.get(id);
    await this.storage.lockIds([id]);
    const { receipts } = await this.storage.storedReceipts([id], { replica: '', user: undefined, origins: [] });
    const [found] = receipts;
    return found && receiptOf(found);
  }

  /** Keeps a receipt; it is written at the end of the database transaction. */
  save(receipt: Receipt): void {
    this.receipts.set(receipt.id, receipt);
    this.unwritten.push(receipt);
    if (receipt.outcome.kind !== 'applied') return;
    for (const origin of receipt.origins ?? [receipt.id])
      this.origins.set(originKey(receipt.replica, origin), receipt.id);
  }

  /** Those of these origins that were applied; nobody else applies one of them before this transaction ends. */
  async appliedOrigins(of: ReplicaOrigins): Promise<readonly AppliedOrigin[]> {
    const { replica, origins } = of;
    const known = origins.map((origin) => [origin, this.origins.get(originKey(replica, origin))] as const);
    if (known.every(([, id]) => id !== undefined))
      return known.flatMap(([origin, id]) => (typeof id === 'string' ? [{ origin, id }] : []));
    await this.storage.lockIds(origins);
    await this.write();
    return (await this.storage.storedReceipts([], of)).origins;
  }

  /** Writes what is still to be written: at the end, or before the database is asked for receipts. */
  write(): void | Promise<void> {
    const written = this.take();
    return written && this.storage.insertReceipts(written);
  }

  /** Takes what is still to be written; undefined where there is nothing. */
  private take(): NewReceipts | undefined {
    if (this.unwritten.length === 0) return undefined;
    const uploads = new Map<string, number>();
    const origins: NewReceipts['origins'][number][] = [];
    const results = this.unwritten.flatMap(({ id: receipt, results: given = [] }) =>
      given.map(({ id, result }) => [receipt, id, result] as const),
    );
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
    return { receipts, origins, results, uploads };
  }
}
