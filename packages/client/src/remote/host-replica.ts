import type { Schema } from '@koinon/core';
import type { Result } from '../live/result.ts';
import { DataApi } from '../replica/data-api.ts';
import { askOn, carryOutOnce, type EffectName, followOn, hearOn, type Replica } from '../replica/replica.ts';
import type { Transaction } from '../replica/transaction.ts';
import { Carrier } from './carried.ts';
import { type Answer, carryError, movedAway, type Request } from './messages.ts';
import { hear, type Port, whenGone, withCopies } from './port.ts';

/** An open transaction whose function runs on the other side. */
interface OpenFrom<S extends Schema> {
  readonly transaction: Transaction<S>;
  end(commits: boolean): void;
  /** Settles when the transaction has been committed or rolled back. */
  ended(): Promise<unknown>;
}

const rolledBack = Symbol('the other side took it back');

/**
 * Runs a replica in this thread for another one, which reaches it through `connectReplica`. The two lines of an app's
 * worker file; schema functions and checks run here.
 *
 * @example
 * // worker.ts
 * hostReplica(parentPort, () => openReplica({ schema, file: 'hives.db' }))
 */
export async function hostReplica<S extends Schema>(port: Port, open: () => Promise<Replica<S>>): Promise<void> {
  let queued: Answer[] = [];
  const transfer: ArrayBuffer[] = [];
  const answerWith = (answer: Answer) => {
    if (queued.push(copied(answer, transfer)) > 1) return;
    queueMicrotask(() => {
      const answers = queued;
      queued = [];
      port.postMessage(answers.length === 1 ? answers[0] : { type: 'batch', answers }, transfer.splice(0));
    });
  };
  // Listening begins before the replica is open: what arrives meanwhile waits for it.
  const opening = open();
  opening.catch(() => undefined);
  const transactions = new Map<number, OpenFrom<S>>();
  const running = new Map<number, AbortController>();
  const stops = new Map<number, () => void>();

  const answer = async (request: Request): Promise<unknown> => {
    const replica = await opening;
    switch (request.ask) {
      case 'open':
        return undefined;
      case 'step': {
        const open = request.transaction === undefined ? undefined : transactions.get(request.transaction);
        if (request.transaction !== undefined && open === undefined) throw movedAway();
        if (request.call !== undefined && open === undefined)
          return carryOutOnce(replica, request.call, request.name as EffectName, request.given);
        return DataApi.executeStep(open?.transaction ?? replica, request.name, request.given);
      }
      case 'call': {
        if (request.call !== undefined)
          return carryOutOnce(replica, request.call, request.name as EffectName, request.given);
        if (request.name !== 'sync')
          return (replica[request.name] as (...given: unknown[]) => Promise<unknown>).apply(replica, [
            ...request.given,
          ]);
        const controller = new AbortController();
        running.set(request.number, controller);
        const [options] = request.given as [object | undefined];
        return replica.sync({ ...options, signal: controller.signal }).finally(() => running.delete(request.number));
      }
      case 'server':
        return askOn(replica, request.question);
      case 'begin':
        // Asked again by a caller who did not know yet that this host has heard it.
        return transactions.has(request.number) ? undefined : begin(replica, request.number);
      case 'end': {
        const open = transactions.get(request.transaction);
        // It was begun with another host, which may have committed it last of all.
        if (open === undefined) return request.commits ? committedElsewhere(replica, request.call) : undefined;
        transactions.delete(request.transaction);
        if (request.commits && request.call !== undefined)
          await DataApi.executeStep(open.transaction, 'noteCall', [request.call]);
        open.end(request.commits);
        return open.ended();
      }
      case 'outcome':
        return DataApi.executeStep(replica, 'isDone', [request.call]);
      case 'follow': {
        stops.get(request.number)?.();
        const carrier = new Carrier();
        const deliver = (result: Result<unknown>) =>
          answerWith({ type: 'result', number: request.number, result: carrier.carry(result) });
        const fail = (error: unknown) =>
          answerWith({ type: 'error', number: request.number, error: carryError(error) });
        const end = () => {
          stops.delete(request.number);
          answerWith({ type: 'end', number: request.number });
        };
        stops.set(request.number, followOn(replica, request.kind, request.request)({ deliver, fail, end }));
        return undefined;
      }
      case 'hear':
        stops.get(request.number)?.();
        stops.set(
          request.number,
          hearOn(replica, request.table, request.where, (events) =>
            answerWith({ type: 'events', number: request.number, events: events.map((event) => ({ ...event })) }),
          ),
        );
        return undefined;
      case 'stop':
        stops.get(request.number)?.();
        stops.delete(request.number);
        return undefined;
      case 'cancel':
        running.get(request.number)?.abort();
        return undefined;
    }
  };

  /** Opens a transaction that stays open until the other side ends it; resolves once its turn has come. */
  const begin = (replica: Replica<S>, number: number) =>
    new Promise<void>((opened, refused) => {
      const ended = replica.transaction(
        (transaction) =>
          new Promise<void>((commit, rollBack) => {
            transactions.set(number, {
              transaction,
              ended: () => settled,
              end: (commits) => (commits ? commit() : rollBack(rolledBack)),
            });
            opened();
          }),
      );
      const settled: Promise<unknown> = ended.catch((error) => {
        refused(error);
        if (error !== rolledBack) throw error;
      });
      // The end of the transaction is told to its caller; until then nobody may be listening.
      settled.catch(() => undefined);
    });

  /** Requests that are being answered, by what they ask and their numbers: one that is asked again has the same answer. */
  const underWay = new Map<string, Promise<unknown>>();
  hear(port, (message) => {
    const request = message as Request;
    const key = `${request.ask} ${request.number}`;
    const answered = underWay.get(key) ?? answer(request);
    underWay.set(key, answered);
    const over = () => underWay.delete(key);
    answered.then(over, over);
    // These two go under the number of what they end, whose own answer is to come.
    const isAnswered = request.ask !== 'cancel' && request.ask !== 'stop';
    answered.then(
      (value) => isAnswered && answerWith({ type: 'done', number: request.number, value }),
      (error) => isAnswered && answerWith({ type: 'error', number: request.number, error: carryError(error) }),
    );
  });
  whenGone(port, () => {
    for (const { end } of transactions.values()) end(false);
    for (const stop of stops.values()) stop();
  });
  await opening.catch(() => undefined);
}

/** A transaction that this host knows nothing of but, where it was committed, the call that its file remembers. */
function committedElsewhere<S extends Schema>(replica: Replica<S>, call: string | undefined): Promise<unknown> {
  return call === undefined ? Promise.reject(movedAway()) : DataApi.executeStep(replica, 'isDone', [call]);
}

/** An answer whose large bytes may be handed over: the replica's own rows stay what they are. */
function copied(answer: Answer, transfer: ArrayBuffer[]): Answer {
  if (answer.type === 'done') return { ...answer, value: withCopies(answer.value, transfer) };
  if (answer.type !== 'result') return answer;
  const rows = withCopies(answer.result.rows, transfer) as readonly unknown[];
  return { ...answer, result: { ...answer.result, rows } };
}
