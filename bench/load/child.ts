import { type ChildProcess, fork } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import type { Asked, Compared, Counted, Figures, Ledger } from './devices.ts';

/** Starts a program of the load in a process of its own, and waits until it says that it is ready. */
export async function start(program: string, args: readonly string[], memory?: number): Promise<ChildProcess> {
  const child = fork(fileURLToPath(new URL(program, import.meta.url)), args, {
    execArgv: [...process.execArgv, ...(memory === undefined ? [] : [`--max-old-space-size=${memory}`])],
  });
  await new Promise<void>((done, failed) => {
    child.once('message', () => done());
    child.once('exit', (code) => failed(new Error(`${program} ended with ${code}.`)));
  });
  return child;
}

/** Ends a process, and waits until it has. */
export async function end(child: ChildProcess): Promise<void> {
  if (child.exitCode !== null) return;
  const ended = new Promise((done) => child.once('exit', done));
  child.disconnect();
  await ended;
}

/** What each question is answered with. */
interface Answers {
  readonly edit: undefined;
  readonly count: Counted;
  readonly figures: Figures;
  readonly ledger: Ledger;
  readonly compare: Compared;
}

let asked = 0;

/** Asks a process with replicas. */
export function ask<A extends Asked>(child: ChildProcess, question: A): Promise<Answers[A['ask']]> {
  const id = ++asked;
  return new Promise((done) => {
    const hear = (message: { readonly id?: number; readonly answered?: Answers[A['ask']] }) => {
      if (message.id !== id) return;
      child.off('message', hear);
      done(message.answered as Answers[A['ask']]);
    };
    child.on('message', hear);
    child.send({ id, ...question });
  });
}
