import type { FileValue } from '@koinon/core';
import type { Store } from '../store/store.ts';
import type { FileStorage } from './storage.ts';
import type { Uploads } from './uploads.ts';

/** Milliseconds between two rounds. */
const roundEvery = 3_600_000;

/** Removes contents that no row holds any more, and uploads that nobody goes on with. */
export class FileJob {
  private readonly store: Store;
  private readonly storage: FileStorage;
  private readonly uploads: Uploads;
  private readonly keepFor: number;
  private timer: NodeJS.Timeout | undefined;
  private round: Promise<void> = Promise.resolve();

  /** @param keepDays as deleted rows are kept: one may be brought back. */
  constructor(store: Store, storage: FileStorage, uploads: Uploads, keepDays: number) {
    this.keepFor = keepDays * 86_400_000;
    this.store = store;
    this.storage = storage;
    this.uploads = uploads;
  }

  /** Tidies from now on, until it is stopped. */
  start(): void {
    this.timer = setInterval(() => {
      this.round = this.tidy(Date.now()).catch(() => undefined);
    }, roundEvery).unref();
  }

  /** Stops; a round that is under way ends first. */
  async stop(): Promise<void> {
    clearInterval(this.timer);
    await this.round;
  }

  /** One round. A content that is old enough goes, where neither its row holds the file nor the trash could bring that back. */
  async tidy(now: number): Promise<void> {
    await this.uploads.tidy();
    for await (const file of this.storage.all()) {
      if (now - file.storedAt < this.keepFor) continue;
      const { table, row, column, id } = file.place;
      const isHeld = await this.store.read(async (reader) => {
        if (!Object.hasOwn(this.store.schema.tables, table)) return false;
        const [found] = await reader.rowsWhere(table, { kind: 'compare', column: 'id', sign: '=', value: row });
        const [deleted] = found === undefined ? await reader.tombstones([{ table, id: row }]) : [];
        const value = (found?.[column] ?? deleted?.columns[column]) as FileValue | null | undefined;
        return value?.id === id;
      });
      if (!isHeld) await this.storage.remove(file);
    }
  }
}
