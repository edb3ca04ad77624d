import { KoinonError } from '@koinon/core';
import { type Answer, errorOf, movedAway, type Request } from './messages.ts';
import { hear, type Port, whenGone, withCopies } from './port.ts';

/** A request before it has its number. */
export type Unnumbered<R> = R extends { readonly number: number } ? Omit<R, 'number'> : never;

interface Waiting {
  request: Request;
  readonly done: (value: unknown) => void;
  readonly fail: (error: unknown) => void;
}

/** The failure or the end of something that is followed. */
interface Outcome {
  readonly fail: (error: unknown) => void;
  readonly end: () => void;
}

interface Follower extends Outcome {
  readonly request: Request;
  readonly listener: (answer: Answer) => void;
}

/**
 * The app's end of the way to a host. Numbers what is asked, and hands each answer to whoever asked. Where the host may
 * change, what has an effect also carries an id: asked again of the next host, it is not done twice.
 */
export class Wire {
  private readonly port: Port;
  private readonly newId: (() => string) | undefined;
  private readonly waiting = new Map<number, Waiting>();
  private readonly followers = new Map<number, Follower>();
  /** Transactions whose function is running, and those of them whose host is gone. */
  private readonly begun = new Set<number>();
  private readonly lost = new Set<number>();
  private count = 0;
  /** Called after each request has been sent. */
  onAsked: (() => void) | undefined;
  private gone: KoinonError | undefined;

  /** @param newId makes ids for calls, where the host may change. */
  constructor(port: Port, newId?: () => string) {
    this.port = port;
    this.newId = newId;
  }

  /** Resolves when the host has opened its replica. Asked for, since a host that was ready earlier tells nobody twice. */
  async open(): Promise<void> {
    hear(this.port, (message) => this.take(message as Answer));
    whenGone(this.port, () =>
      this.end(new KoinonError('replica-closed', 'The thread that runs the replica is gone; connect again.')),
    );
    await this.ask({ ask: 'open' });
  }

  /** Fails whatever waits or follows, and all that is asked from now on. */
  end(error: KoinonError): void {
    const gone = this.gone ?? error;
    this.gone = gone;
    const waiting = [...this.waiting.values()];
    // Those whose beginning is not answered yet fail with that.
    const following = [...this.followers].flatMap(([number, each]) => (this.waiting.has(number) ? [] : [each]));
    this.waiting.clear();
    this.followers.clear();
    for (const { fail } of [...waiting, ...following]) fail(gone);
  }

  /** Ends whatever follows, and fails the rest. */
  close(): void {
    const ended = [...this.followers.values()];
    this.followers.clear();
    for (const { end } of ended) end();
    this.end(new KoinonError('replica-closed', 'This replica is closed; connect to it again.'));
  }

  /** Tells whether nothing can be asked any more. */
  get isOver(): boolean {
    return this.gone !== undefined;
  }

  ask(request: Unnumbered<Request>, number = ++this.count): Promise<unknown> {
    if (this.gone) return Promise.reject(this.gone);
    const numbered = { ...request, number } as Request;
    if (this.belongsToLost(numbered)) return Promise.reject(movedAway());
    return new Promise((done, fail) => {
      this.waiting.set(number, { request: numbered, done, fail });
      try {
        this.send(numbered);
        this.onAsked?.();
      } catch (error) {
        this.waiting.delete(number);
        fail(unsendable(request, error));
      }
    });
  }

  /** The id of a new call with an effect, where one is needed. */
  identified(): { readonly call?: string } {
    return this.newId ? { call: this.newId() } : {};
  }

  next(): number {
    return ++this.count;
  }

  /** Asks for something that goes on telling under its number; the function returned ends that. */
  follow(request: Unnumbered<Request>, listener: (answer: Answer) => void, outcome: Outcome): () => void {
    const number = this.next();
    if (this.gone === undefined)
      this.followers.set(number, { request: { ...request, number } as Request, listener, ...outcome });
    this.ask(request, number).catch(outcome.fail);
    return () => {
      this.followers.delete(number);
      this.waiting.delete(number);
      this.port.postMessage({ ask: 'stop', number }, []);
    };
  }

  post(request: Request): void {
    this.port.postMessage(request, []);
  }

  /** The calls that would have an effect, and are not answered yet. */
  unanswered(): readonly Request[] {
    return [...this.waiting.values()].flatMap(({ request }) =>
      (request.ask === 'step' || request.ask === 'call') && request.call !== undefined ? [request] : [],
    );
  }

  private take(answer: Answer): void {
    if (answer.type === 'batch') {
      for (const each of answer.answers) this.take(each);
      return;
    }
    if (answer.type === 'owner-changed') {
      this.askAgain();
      return;
    }
    if (answer.type === 'tab') return;
    const waiting = this.waiting.get(answer.number);
    if (answer.type === 'done' || (answer.type === 'error' && waiting)) {
      this.waiting.delete(answer.number);
      if (answer.type === 'error') {
        waiting?.fail(errorOf(answer.error));
        return;
      }
      if (waiting?.request.ask === 'begin') this.begun.add(answer.number);
      if (waiting?.request.ask === 'end') this.begun.delete(waiting.request.transaction);
      waiting?.done(answer.value);
    } else if (answer.type === 'end') {
      const follower = this.followers.get(answer.number);
      this.followers.delete(answer.number);
      follower?.end();
    } else this.followers.get(answer.number)?.listener(answer);
  }

  /** The replica has another host. What had no answer is asked again; of what had an effect, the id says whether it was done. */
  private askAgain(): void {
    for (const transaction of this.begun) this.lost.add(transaction);
    this.begun.clear();
    for (const [number, waiting] of [...this.waiting]) {
      const { request } = waiting;
      if (this.followers.has(number)) continue;
      if (request.ask === 'end' && request.call !== undefined) {
        // The commit may have been the last thing the old host did.
        waiting.request = { ask: 'outcome', number, call: request.call };
        this.send(waiting.request);
      } else if (this.belongsToLost(request)) {
        this.waiting.delete(number);
        waiting.fail(movedAway());
      } else this.send(request);
    }
    for (const { request } of this.followers.values()) this.port.postMessage(request, []);
  }

  /** Sends a request; the large bytes of single rows go as copies that are handed over, since these stay the caller's. */
  private send(request: Request): void {
    const isRow =
      request.ask === 'step' && (request.name === 'insert' || request.name === 'update' || request.name === 'upsert');
    if (!isRow) {
      this.port.postMessage(request, []);
      return;
    }
    const transfer: ArrayBuffer[] = [];
    const given = request.given.map((each) => withCopies(each, transfer));
    this.port.postMessage(transfer.length > 0 ? { ...request, given } : request, transfer);
  }

  private belongsToLost(request: Request): boolean {
    return 'transaction' in request && request.transaction !== undefined && this.lost.has(request.transaction);
  }
}

/** Functions and the like cannot go to another thread: the error says where one stands. */
function unsendable(request: Unnumbered<Request>, cause: unknown): KoinonError {
  const given: readonly unknown[] = 'given' in request ? request.given : [];
  const why = (cause as Error).message;
  try {
    const [table] = given;
    const columns = given.find((each) => each !== null && typeof each === 'object') ?? {};
    const [column, value] = Object.entries(columns).find(([, each]) => !isSendable(each)) ?? [];
    if (typeof table === 'string' && column !== undefined)
      return new KoinonError('value-type', `${column} cannot go to the replica's thread: ${why}`, {
        table,
        column,
        value,
        cause,
      });
  } catch {
    // A value that cannot be sent may not even be looked at.
  }
  const value = given.find((each) => !isSendable(each));
  const what = `Argument ${given.indexOf(value) + 1}`;
  return new KoinonError('argument-invalid', `${what} cannot go to the replica's thread: ${why}`, { value, cause });
}

function isSendable(value: unknown): boolean {
  try {
    structuredClone(value);
    return true;
  } catch {
    return false;
  }
}
