import { KoinonError, type Outcome } from '@koinon/core';
import { type Attempt, attempt, type Chosen, choose, isPoisoned, portions, sendAttempt } from './attempt.ts';
import type { SyncParts } from './parts.ts';

/** How often one sync starts a large transaction over whose parts the server had lost. */
const mostLosses = 5;

/** The requests that go up in one sync, one after the other, until what is left has to wait. */
export class Upload {
  /** Transactions by what the server made of them. */
  readonly counts = { applied: 0, stale: 0, waiting: 0, rejected: 0 };
  /** Transactions with actions that the server has applied: what they did has to come back before what was typed on top of it can go. */
  withActions = 0;
  private readonly parts: SyncParts;
  private readonly signal: AbortSignal | undefined;
  /** Transactions that the server could not write just now are not sent again before everything else that can go. */
  private readonly deferred = new Set<string>();
  /** A request that was chosen before anything else was done. */
  private first: Attempt | undefined;
  private oneByOne = false;
  private hasBegun = false;
  /** How often the server had lost parts of a large transaction. */
  private losses = 0;

  constructor(parts: SyncParts, signal: AbortSignal | undefined) {
    this.parts = parts;
    this.signal = signal;
  }

  private get choosing() {
    return { ...this.parts, waiting: this.deferred };
  }

  /** Chooses the first request at once, in a transaction of the caller's. */
  chooseFirst(local: Parameters<typeof attempt>[0]): void {
    this.first = attempt(local, portions.first, this.choosing);
  }

  /**
   * Sends again what was never answered. An earlier version of the app may have written it: what the server puts off of that is
   * sent in the words of this one.
   */
  async resend(unanswered: Attempt): Promise<void> {
    await this.settle(unanswered);
    this.deferred.clear();
  }

  /** Sends what fits into one request; returns whether it makes sense to send more before the next page. */
  async sendSome(): Promise<boolean> {
    const chosen = await this.begin();
    if (chosen === undefined) return true;
    this.parts.enter('pushing');
    const outcomes = await this.settle(chosen);
    this.parts.enter('pulling');
    return outcomes.every(({ outcome }) => outcome !== 'stale' && outcome !== 'blocked' && outcome !== 'deferred');
  }

  /**
   * Sends all that can go. Returns whether others had overtaken some of it: that stays unsent, and must not go round again
   * before a pull.
   *
   * @param afterEach is called after each request; returns whether it has changed what the next one would be.
   */
  async sendAll(afterEach: () => Promise<boolean>): Promise<boolean> {
    let isOvertaken = false;
    this.parts.enter('pushing');
    for (let chosen = await this.begin(); chosen !== undefined; ) {
      const settled = this.settle(chosen);
      const [outcomes, ahead] = await both(settled, this.lookAhead(chosen, settled));
      isOvertaken ||= outcomes.some(({ outcome }) => outcome === 'stale' || outcome === 'applied-before');
      const isGoing = outcomes.length === 0 || outcomes.some(({ outcome }) => outcome !== 'blocked');
      if (!isGoing || outcomes.some(({ outcome }) => outcome === 'stale')) break;
      chosen = await this.begin((await afterEach()) ? undefined : ahead);
    }
    return isOvertaken;
  }

  /** Chooses what fits into one request, and keeps it. */
  private async begin(ahead?: Chosen): Promise<Attempt | undefined> {
    const chosen = this.first;
    this.first = undefined;
    const portion = this.oneByOne ? portions.single : this.hasBegun ? portions.next : portions.first;
    this.hasBegun = true;
    return chosen ?? this.parts.change((local) => attempt(local, portion, this.choosing, ahead));
  }

  /** Sends what was chosen, and takes in what became of it. */
  private async settle(attempted: Attempt): Promise<readonly Outcome[]> {
    const { parts, counts } = this;
    const outcomes = await sendAttempt(parts, attempted, this.signal).catch((error) => {
      if (!isPoisoned(error)) throw error;
      // Something in the request is at fault: one by one, the server finds which, and the others go on.
      this.oneByOne = true;
      return [];
    });
    for (const { id, outcome } of outcomes) {
      if (outcome === 'blocked' || outcome === 'deferred') counts.waiting++;
      else if (outcome === 'applied' || outcome === 'stale' || outcome === 'rejected') counts[outcome]++;
      if (outcome === 'deferred') this.deferred.add(id);
    }
    const isCutUp = attempted.request.transactions.some(({ part }) => part !== undefined);
    if (isCutUp && outcomes.some(({ outcome }) => outcome === 'parts-missing') && ++this.losses > mostLosses)
      throw keepsForgetting();
    const applied = new Set(outcomes.flatMap(({ id, outcome }) => (outcome === 'applied' ? [id] : [])));
    const stored = new Set(outcomes.flatMap(({ id, outcome }) => (outcome === 'part-stored' ? [id] : [])));
    for (const { id, actions } of attempted.request.transactions)
      if (applied.has(id) && actions !== undefined) this.withActions++;
    for (const { id, changes } of attempted.request.transactions)
      if (applied.has(id) || stored.has(id)) for (const change of changes) parts.traffic.note('up', change);
    parts.traffic.sent += applied.size;
    return outcomes;
  }

  /** While a request is under way, the next one is made ready; not where this one is all that was to be sent. */
  private async lookAhead({ request }: Attempt, settled: Promise<unknown>): Promise<Chosen | undefined> {
    const { parts } = this;
    const part = request.transactions[0]?.part;
    const isLast = parts.traffic.toSend <= parts.traffic.sent + request.transactions.length;
    if (this.oneByOne || isLast || (part && part.index < part.count - 1)) return undefined;
    // The request goes out first; one that is answered by then was not worth it.
    let isAnswered = false;
    await new Promise<void>((done) => {
      const cancel = parts.host.after(1, done);
      const answered = () => {
        isAnswered = true;
        cancel();
        done();
      };
      settled.then(answered, answered);
    });
    return isAnswered ? undefined : parts.change((local) => choose(local, portions.next, this.choosing));
  }
}

function keepsForgetting(): KoinonError {
  return new KoinonError(
    'server-answer',
    `The server lost parts of a large transaction ${mostLosses + 1} times in one sync. Everything unsent is kept; sync again later.`,
  );
}

/** Waits for both, so that nothing goes on where one fails. */
async function both<A, B>(one: Promise<A>, other: Promise<B>): Promise<[A, B]> {
  await Promise.allSettled([one, other]);
  return Promise.all([one, other]);
}
