import { statSync } from 'node:fs';
import { resolve } from 'node:path';
import { KoinonError } from '@koinon/core';

/** Milliseconds between two looks whether the file is still there. */
const lookEvery = 1_000;

/** Notices that the file was deleted, or another was put in its place, while it was open: what is written goes nowhere then. */
export class FileWatch {
  private readonly file: string;
  private readonly opened: string | undefined;
  private lookedAt = Number.NEGATIVE_INFINITY;

  constructor(file: string) {
    // A relative path means another file once the process has gone to another folder.
    this.file = resolve(file);
    this.opened = this.present();
  }

  /** @throws KoinonError `server-failure`. */
  refuseLost(): void {
    const now = performance.now();
    if (now - this.lookedAt < lookEvery) return;
    if (this.present() !== this.opened)
      throw new KoinonError(
        'server-failure',
        'The server’s database file was deleted, or another was put in its place, while it was open. Nothing is read or written any more. Start the server again over the file that is to be served.',
      );
    this.lookedAt = now;
  }

  private present(): string | undefined {
    try {
      const found = statSync(this.file, { bigint: true, throwIfNoEntry: false });
      return found && `${found.dev} ${found.ino}`;
    } catch {
      // A folder that may not be looked into tells nothing of its files.
      return this.opened;
    }
  }
}
