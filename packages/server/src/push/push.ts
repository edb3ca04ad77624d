import { setImmediate } from 'node:timers/promises';
import {
  type ActionResult,
  type Change,
  type Cursor,
  limits,
  type Outcome,
  type Position,
  type Problem,
  type PushRequest,
  type PushResponse,
  type RowKey,
  type ServerValues,
  type Table,
  type UploadedTransaction,
} from '@koinon/core';
import { changeFromWire, changeProblems, HeldRows, rowKey, touchedBy } from '@koinon/core/internal';
import { givenCursor, refuseUnreached } from '../pull/pull.ts';
import { inputProblems, knowsActions, runAction } from '../rules/actions.ts';
import { type RuleSet, ruleSet } from '../rules/rules.ts';
import { writeByRules } from '../rules/write.ts';
import { type ScopeSet, scopeSet } from '../scope/evaluate.ts';
import { Guard } from '../scope/guard.ts';
import type { LockWait, NewEffect, Reach, Receipt, Store, StoreWriter } from '../store/store.ts';
import { Translation } from './assigned-keys.ts';
import { Batch, type BatchState } from './batch.ts';
import { Comparison } from './compare.ts';
import { digestOf } from './digest.ts';
import { forgottenOutcome, problemsKept, reusedId, tooLarge, unreadableProblems } from './refusals.ts';

const noRules = ruleSet({}, () => undefined);

/** How long one database transaction may go on taking up uploaded ones, in milliseconds: others wait for it. */
const turn = 50;

/**
 * Takes up a push, in order, each transaction as a whole or not at all. One that was taken up before gets its outcome
 * again; one that others have overtaken is `stale`; one that the rules refuse is `rejected`; one that touches or
 * references rows of one not applied `waits`, and so does one that cannot be written for a reason of its own. Only `applied`
 * has written anything. Several are committed together, since what a commit costs is waiting for the disk; should that fail,
 * those before the one at fault are taken up again together, and that one alone.
 */
export async function push(
  store: Store,
  request: PushRequest,
  rules: RuleSet = noRules,
  scopes: ScopeSet = scopeSet(store.schema, undefined),
  onState?: (state: BatchState) => void,
): Promise<PushResponse> {
  const base = request.base === null ? null : await givenCursor(store, request.base, rules.user);
  const { transactions } = request;
  const isNewer = (request.schemaVersion ?? 1) > store.schema.version;
  const taking: Taking = { store, rules, scopes, replica: request.replica, isNewer };
  const outcomes: Outcome[] = [];
  const blocked: Blocked = new HeldRows(store.schema);
  // Rules refuse as a matter of course. Handlers of actions touch nothing but the database, so that they may run again.
  const hasRules = Object.keys(rules.tables).length > 0;
  const batch = new Batch(hasRules ? 'guarded' : 'optimistic', onState);
  let lockWait: LockWait = 'some';
  while (batch.from < transactions.length) {
    const group = batch.groupOf(transactions);
    const taken = await takeInSome({ ...taking, isOptimistic: batch.isOptimistic, lockWait }, group, base, blocked);
    const settled = [...taken.outcomes];
    if (taken.failure !== undefined) {
      // Others may have locked rows as well: one wait is enough for a request.
      if (store.faultOf(taken.failure) === 'locked') lockWait = 'none';
      if (batch.failed(group.length, taken.reached) === 'set aside')
        settled.push(await setAside(taking, group[0] as UploadedTransaction, taken.failure));
    }
    for (const [i, outcome] of settled.entries()) {
      const transaction = group[i] as UploadedTransaction;
      if (!isDone(transaction, outcome)) blocked.add(touchedBy(transaction), transaction.id);
    }
    outcomes.push(...settled);
    batch.passed(settled.length);
    // Between two database transactions others get their turn: without this a long push would hold up every other request.
    if (batch.from < transactions.length) await setImmediate();
  }
  return { outcomes, time: new Date().toISOString() };
}

/** The parts for taking transactions up. */
interface Taking {
  readonly store: Store;
  readonly rules: RuleSet;
  readonly scopes: ScopeSet;
  readonly replica: string;
  /** Tells whether the app's schema is newer than the server's. */
  readonly isNewer: boolean;
  /**
   * Tells whether all are expected to be fine: then only those with actions, whose handlers may refuse, have a savepoint of their
   * own, and if another cannot be kept after all, the whole group is given up and taken in anew without hope.
   */
  readonly isOptimistic?: boolean;
  /** Tells whether rows that somebody has locked are waited for. */
  readonly lockWait?: LockWait;
}

/** The same in one database transaction. */
interface Guarded extends Taking {
  readonly guard: Guard;
}

/** A transaction could not be kept in a group that was expected to be fine. */
class OptimisticBatchError extends Error {}

/** The bounds of what is looked up for one group at once. */
const transactionsAhead = 500;
const rowsAhead = 5_000;

/** Tells whether a receipt is of this user's transaction: nobody is told what became of another's. */
function isOwn({ user }: Receipt, { rules }: Taking): boolean {
  return user === null || rules.user === undefined || user === rules.user.id;
}

/** The rows of transactions of this request that were not applied, with their ids. */
type Blocked = HeldRows<string>;

/** The result of a group: its outcomes up to where the turn was over, or what gave it up as a whole. */
interface Taken {
  readonly outcomes: readonly Outcome[];
  readonly failure?: unknown;
  /** Transactions of it that would have been fine. */
  readonly reached: number;
}

/** Takes in transactions from the first on, until the turn is over; all in one database transaction. */
async function takeInSome(
  taking: Taking,
  transactions: readonly UploadedTransaction[],
  base: Cursor | null,
  before: Blocked,
): Promise<Taken> {
  let reached = 0;
  try {
    const outcomes = await taking.store.write(async (writer) => {
      const end = performance.now() + turn;
      const blocked = before.copy();
      const outcomes: Outcome[] = [];
      reached = 0;
      const from = await basedOn(writer, base);
      const guarded = { ...taking, guard: guardOf(taking, writer) };
      await lookAhead(writer, taking, transactions);
      for (const transaction of transactions.slice(0, transactionsAhead)) {
        const outcome = await takeIn(guarded, writer, transaction, from, blocked);
        reached = outcomes.push(outcome);
        if (!isDone(transaction, outcome)) blocked.add(touchedBy(transaction), transaction.id);
        if (performance.now() > end) break;
      }
      return outcomes;
    }, taking.lockWait);
    return { outcomes, reached };
  } catch (failure) {
    return { outcomes: [], failure, reached };
  }
}

/**
 * The outcome of a transaction that could not be written, alone. Where a constraint refused it at its end, it is refused. Else
 * nobody knows whether it ever can: it may come again, and those that have nothing to do with it go on.
 *
 * @throws what says that the database as a whole is at fault.
 */
async function setAside(taking: Taking, transaction: UploadedTransaction, failure: unknown): Promise<Outcome> {
  const { store, rules, replica } = taking;
  const { id, changes, origins, part } = transaction;
  const refusal = store.refusalOf(failure);
  if (refusal !== undefined) {
    const [first] = changes;
    const problems = [{ ...refusal, ...(first && { table: first.table, id: first.id }) }];
    await store.write(async (writer) => {
      // If it came in parts, only the last is here: it is sent anew, and refused anew.
      if (part !== undefined) return writer.dropParts(replica);
      const sender = { user: rules.user?.id ?? null, replica, ...(origins && { origins }) };
      const outcome = { kind: 'rejected', problems } as const;
      const keys = await Translation.of(store.schema, writer, rules.user?.id, transaction);
      if ((await writer.receipts.get(id)) === undefined)
        writer.receipts.save({ id, digest: digestOf(keys.apply(transaction)), ...sender, outcome });
    });
    return rejected(id, problems);
  }
  const fault = store.faultOf(failure);
  if (fault === undefined) throw failure;
  const [about = { table: transaction.actions?.[0]?.name ?? '', id }] = changes;
  if (fault === 'failed') rules.report(failure, about);
  return { id, outcome: 'deferred' };
}

/**
 * Looks up at once what the next transactions will ask for one by one. Their rows as well where all are expected to be fine:
 * else one that somebody has locked would hold up those before it.
 */
async function lookAhead(
  writer: StoreWriter,
  { replica, rules, scopes, isOptimistic }: Taking,
  transactions: readonly UploadedTransaction[],
): Promise<void> {
  const ids: string[] = [];
  const rows: RowKey[] = [];
  const origins: string[] = [];
  for (const { id, changes, part, origins: given = [id] } of transactions.slice(0, transactionsAhead)) {
    if (rows.length + changes.length > rowsAhead) break;
    ids.push(id);
    origins.push(...given);
    if (isOptimistic && part === undefined)
      for (const change of changes) rows.push({ table: change.table, id: change.id });
  }
  // Ids and origins are locked in one order: one after the other, two processes could wait for each other.
  if (ids.length > 0)
    await writer.lookAhead({
      receipts: ids,
      origins: { replica, user: rules.user?.id, origins },
      rows,
      withValues: !scopes.isOpen,
    });
}

const guardOf = ({ store, scopes, rules }: Taking, writer: StoreWriter) =>
  new Guard(store.schema, writer, scopes, rules.user);

/** The base of a push, and whether the feed still reaches back to it. */
interface Based {
  readonly known: Position | null;
  readonly reach: Reach;
}

async function basedOn(writer: StoreWriter, base: Cursor | null): Promise<Based> {
  // In the middle of a long delta not all is known that comes before the cursor.
  const known = base === null ? null : (base.since ?? base.known);
  return { known, reach: known === null ? 'known' : await writer.reach(known) };
}

/** A transaction as it comes: whole, or in parts, of which all but the last are only put by. */
async function takeIn(
  taking: Guarded,
  writer: StoreWriter,
  transaction: UploadedTransaction,
  base: Based,
  blocked: Blocked,
): Promise<Outcome> {
  const { id, part } = transaction;
  if (part === undefined) return takeUp(taking, writer, transaction, base, blocked);
  const known = await writer.receipts.get(id);
  if (known !== undefined && isOwn(known, taking))
    return withResults(writer, outcomeOf(known, taking, transaction), transaction);
  const of = { replica: taking.replica, id };
  // A first part begins anew: what another version of the app put by may have been cut elsewhere.
  if (part.index === 0) await writer.dropParts(taking.replica);
  if ((await writer.savePart(of, part.index, transaction.changes)) > limits.transactionBytes) {
    await writer.dropParts(taking.replica);
    return rejected(id, [tooLarge('bytes', limits.transactionBytes)]);
  }
  if (part.index < part.count - 1) return { id, outcome: 'part-stored' };
  const parts = await writer.takeParts(of);
  if (parts.length !== part.count) return { id, outcome: 'parts-missing' };
  const { part: _, ...whole } = { ...transaction, changes: parts.flat() };
  if (whole.changes.length > limits.transactionChanges)
    return rejected(id, [tooLarge('changes', limits.transactionChanges)]);
  return takeUp(taking, writer, whole, base, blocked);
}

/** The outcome that a receipt tells of. A replica whose file was copied from another one did not send it, so that it is not counted for it. */
function outcomeOf(
  { id, outcome, replica: sender }: Receipt,
  { replica }: Taking,
  { origins = [id] }: UploadedTransaction,
): Outcome {
  if (outcome.kind !== 'applied') return rejected(id, outcome.problems);
  if (sender === null || sender === replica) return { id, outcome: 'applied', position: outcome.position };
  return { id, outcome: 'applied-before', receipts: origins.map((origin) => ({ origin, id })) };
}

/** Takes a transaction up, with the keys of the database in the place of the replica's provisional ids. */
async function takeUp(
  taking: Guarded,
  writer: StoreWriter,
  transaction: UploadedTransaction,
  base: Based,
  blocked: Blocked,
): Promise<Outcome> {
  const keys = await Translation.of(taking.store.schema, writer, taking.rules.user?.id, transaction);
  return keys.back(
    await withResults(writer, await takeUpAs(taking, writer, transaction, keys, base, blocked), transaction),
  );
}

/** The outcome of a transaction that was applied before, with the results that its actions had then. */
async function withResults(writer: StoreWriter, outcome: Outcome, { actions }: UploadedTransaction): Promise<Outcome> {
  if (actions === undefined) return outcome;
  if (outcome.outcome === 'applied' && outcome.results === undefined)
    return { ...outcome, results: await writer.results([outcome.id]) };
  if (outcome.outcome === 'applied-before')
    return { ...outcome, results: await writer.results(outcome.receipts.map(({ id }) => id)) };
  return outcome;
}

async function takeUpAs(
  taking: Guarded,
  writer: StoreWriter,
  sent: UploadedTransaction,
  translation: Translation,
  base: Based,
  blocked: Blocked,
): Promise<Outcome> {
  const transaction = translation.apply(sent);
  const { id, origins } = transaction;
  const { store, rules, guard, replica } = taking;
  const { schema } = store;
  const sender = { user: rules.user?.id ?? null, replica, ...(origins && { origins }) };
  const digest = digestOf(transaction);
  const known = await writer.receipts.get(id);
  if (known !== undefined) {
    return known.digest === digest && isOwn(known, taking)
      ? outcomeOf(known, taking, sent)
      : rejected(id, [reusedId()]);
  }
  // The same act was applied under another id: by a copy of the file, or before the file was put back.
  const before = await writer.receipts.appliedOrigins({ replica, user: rules.user?.id, origins: origins ?? [id] });
  if (before.length > 0) return { id, outcome: 'applied-before', receipts: before };
  // Receipts are kept as long as deletions: of something this old nobody knows whether it was done.
  if (base.reach === 'forgotten') return rejected(id, [forgottenOutcome(transaction)]);
  refuseUnreached(base.reach, 'of this push');
  const blockedBy = blocked.causeOf(touchedBy(sent));
  if (blockedBy !== undefined) return { id, outcome: 'blocked', blockedBy: blockedBy };

  const refuse = async (problems: readonly Problem[]): Promise<Outcome> => {
    // Remembered, so that a late copy of this request cannot be applied when the rules would let it pass by then.
    writer.receipts.save({
      id,
      digest,
      ...sender,
      outcome: { kind: 'rejected', problems: problemsKept(problems.map((problem) => translation.own(problem))) },
    });
    return rejected(id, problems);
  };
  const { actions = [] } = transaction;
  if (!knowsActions({ schema, rules }, actions)) return { id, outcome: 'deferred' };
  const unreadable: Problem[] = [];
  for (const change of transaction.changes) unreadable.push(...unreadableProblems(schema, change));
  if (unreadable.length > 0) {
    // An app sends only what its own schema has: until the two have come together it is nobody's mistake.
    const isUnknown = unreadable.every(({ code }) => code === 'unknown-table' || code === 'unknown-column');
    return isUnknown ? { id, outcome: 'deferred' } : refuse(unreadable);
  }

  // Nothing else is known to be wrong: now it costs a key of the database.
  const given = await translation.give(writer, transaction);
  const keys = lockOrder(given.changes);
  const { stamps, hidden } = await guard.stamps(keys, await writer.stamps(keys, base.known));
  const byKey = new Map(keys.map((key, i) => [rowKey(key), stamps[i]]));
  const view = await guard.view();
  const changes = given.changes.map((change) =>
    guard.completed(changeFromWire(schema, change), byKey.get(rowKey(change)), view),
  );
  const invalid = changes.flatMap((change) => changeProblems(schema.tables[change.table] as Table, change));
  invalid.push(...inputProblems(schema, actions));
  // Nor is it a mistake what the app's own schema takes by now.
  if (invalid.length > 0) return taking.isNewer ? { id, outcome: 'deferred' } : refuse(invalid);
  const forbidden = await guard.problems(changes, byKey, hidden);
  if (forbidden.length > 0) return refuse(forbidden);

  const { user } = rules;
  // Nobody gets past what others wrote by naming their transactions as his own.
  const own =
    user && transaction.dependsOn.length > 0
      ? await writer.applied(transaction.dependsOn, user.id)
      : transaction.dependsOn;
  const comparison = new Comparison(keys, stamps, new Set(own), id, (table) => view.without(table));
  for (const change of changes) comparison.add(schema.tables[change.table] as Table, change);
  if (comparison.problems.length > 0) {
    // The stamps that were looked up beforehand may have changed since.
    if (taking.isOptimistic) throw new OptimisticBatchError();
    return refuse(comparison.problems);
  }
  if (comparison.stale.length > 0) return { id, outcome: 'stale', rows: comparison.stale };

  const values: ServerValues[] = [];
  const results: ActionResult[] = [];
  const ruling = { schema, writer, rules, guard };
  const writeSome = async (some: readonly Change[]) => {
    const among = some.length === changes.length ? keys : lockOrder(some);
    const written = await writeByRules(ruling, some, among, 'device');
    values.push(...written.values.map((each) => ({ ...each, columns: view.columns(each.table, each.columns) })));
    return written.problems;
  };
  let isRefusedByAction = false;
  const write = async () => {
    let from = 0;
    const effects: NewEffect[] = [];
    for (const call of actions) {
      // The handler finds the changes before it written, and those behind it not.
      const to = Math.max(from, Math.min(call.after, changes.length));
      const refused = to > from ? await writeSome(changes.slice(from, to)) : [];
      from = to;
      if (refused.length > 0) return refused;
      const run = await runAction(ruling, transaction, call, effects.length);
      isRefusedByAction = !('result' in run);
      if (!('result' in run)) return run;
      results.push(run.result);
      effects.push(...run.effects);
      guard.forget();
    }
    const refused = from < changes.length ? await writeSome(changes.slice(from)) : [];
    if (refused.length === 0 && effects.length > 0) await writer.addEffects(effects);
    return refused;
  };
  const { isOptimistic = false } = taking;
  const problems =
    isOptimistic && actions.length === 0
      ? await writer.attempts.withoutSavepoint(id, editTime(transaction), write)
      : await writer.attempts.withSavepoint(id, editTime(transaction), write, isOptimistic);
  if (problems.length > 0) {
    if (isOptimistic && !isRefusedByAction) throw new OptimisticBatchError();
    guard.wrote(keys);
    return refuse(problems);
  }
  if (Object.keys(rules.tables).length > 0) guard.forget();
  const position = store.ordinal(await writer.position());
  // Sent again, it comes with the same keys.
  const applied = given === transaction ? digest : digestOf(given);
  writer.receipts.save({ id, digest: applied, ...sender, outcome: { kind: 'applied', position }, results });
  if (translation.fresh.length > 0) await writer.saveAssignedKeys(rules.user?.id, id, translation.fresh);
  return {
    id,
    outcome: 'applied',
    position,
    ...(values.length > 0 ? { values } : {}),
    ...(actions.length > 0 ? { results } : {}),
  };
}

/** When a transaction was made; a device whose clock is ahead cannot have made it later than now. */
const editTime = ({ editedAt }: UploadedTransaction) => Math.min(Date.parse(editedAt), Date.now());

/** Tells whether what depends on a transaction may follow. */
function isDone({ id, origins = [id] }: UploadedTransaction, outcome: Outcome): boolean {
  // If it joins several, some may have been applied and the others not.
  if (outcome.outcome === 'applied-before') return outcome.receipts.length >= new Set(origins).size;
  return outcome.outcome === 'applied' || outcome.outcome === 'part-stored';
}

function rejected(id: string, problems: readonly Problem[]): Outcome {
  return { id, outcome: 'rejected', problems };
}

function lockOrder(changes: readonly RowKey[]): readonly RowKey[] {
  if (changes.length === 1) return changes.map(({ table, id }) => ({ table, id }));
  const keys = new Map(changes.map(({ table, id }) => [rowKey({ table, id }), { table, id }]));
  return [...keys.values()].sort((a, b) => (a.table === b.table ? (a.id < b.id ? -1 : 1) : a.table < b.table ? -1 : 1));
}
