import type { FileValue } from '@koinon/core';
import { mostFilesAsked } from '@koinon/core/internal';
import { systemHost } from '../host/host.ts';
import { firstRetry, longestRetry } from './retries.ts';
import { fileStates } from './server.ts';
import type { Surroundings } from './surroundings.ts';

/** Answers of the server that are remembered; all are forgotten when there are more. */
const mostAnswers = 10_000;

/** What the server said last of contents that are not here. */
export class Answers {
  private readonly at: Surroundings;
  private readonly isListenedTo: () => boolean;
  private readonly answers = new Map<string, { readonly state: string; readonly at: number }>();
  /** Contents on their way that somebody looked at, and when the server is asked for them again. */
  private readonly awaited = new Map<string, FileValue>();
  private wait = firstRetry;
  private askAt = 0;

  /** @param isListenedTo tells whether anybody is told when a content has come. */
  constructor(at: Surroundings, isListenedTo: () => boolean) {
    this.at = at;
    this.isListenedTo = isListenedTo;
  }

  /** The states of contents, by id. A listener is told of changes, so what was answered before is good enough however often he looks. */
  async of(files: readonly FileValue[]): Promise<ReadonlyMap<string, string>> {
    await this.ask(files.filter(({ id }) => !this.at.kept.has(id) && !this.isKnown(id)));
    const found = new Map<string, string>();
    for (const file of files) {
      const state = this.answers.get(file.id)?.state ?? 'unknown';
      found.set(file.id, state);
      if (state !== 'stored' && !this.at.kept.has(file.id)) this.lookFor(file);
    }
    return found;
  }

  /** The row of a file is another one. */
  forget(id: string): void {
    this.answers.delete(id);
  }

  /** Contents may have come to the server: it is asked for them now. */
  askNow(): void {
    this.wait = firstRetry;
    this.askAt = 0;
  }

  /** Milliseconds until the server is asked for awaited contents; undefined where nobody waits for one. */
  next(): number | undefined {
    return this.awaited.size > 0 && this.isListenedTo() ? this.askAt - systemHost.now() : undefined;
  }

  /** Asks for contents that somebody looked at while they were on their way: more and more seldom, until they are there. */
  async askForAwaited(): Promise<void> {
    const due = this.next();
    if (due === undefined || due > 0) return;
    await this.ask([...this.awaited.values()]);
    this.wait = Math.min(this.wait * 2, longestRetry);
    this.askAt = systemHost.now() + this.wait;
    const { kept, places } = this.at;
    for (const id of [...this.awaited.keys()])
      if (kept.has(id) || places.of(id).length === 0 || this.answers.get(id)?.state === 'stored')
        this.awaited.delete(id);
  }

  private isKnown(id: string): boolean {
    const answer = this.answers.get(id);
    return answer !== undefined && this.isListenedTo() && systemHost.now() - answer.at < longestRetry;
  }

  /** Asks the server. What it answered before stays where it cannot be reached. */
  private async ask(files: readonly FileValue[]): Promise<void> {
    const { server, places } = this.at;
    const wanted = files.flatMap(({ id }) => places.of(id).slice(0, 1));
    if (server === undefined) return;
    for (let from = 0; from < wanted.length; from += mostFilesAsked) {
      const some = wanted.slice(from, from + mostFilesAsked);
      const states = await fileStates(server, some).catch(() => undefined);
      if (states === undefined) return;
      if (this.answers.size >= mostAnswers) this.answers.clear();
      const at = systemHost.now();
      for (const [n, { id }] of some.entries()) this.answers.set(id, { state: states[n] ?? 'unknown', at });
    }
  }

  private lookFor(file: FileValue): void {
    if (this.at.server === undefined || this.at.places.of(file.id).length === 0) return;
    if (this.awaited.has(file.id) || this.awaited.size >= mostFilesAsked) return;
    this.awaited.set(file.id, file);
    this.wait = firstRetry;
    this.askAt = systemHost.now() + firstRetry;
    this.at.changed(firstRetry);
  }
}
