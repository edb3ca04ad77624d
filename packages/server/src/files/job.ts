import type { FileValue } from '@koinon/core';
import type { Store } from '../store/store.ts';
import type { FileStorage, StoredFile } from './storage.ts';
import type { Uploads } from './uploads.ts';

/** Milliseconds between two rounds. */
const roundEvery = 3_600_000;

/** Removes contents that no row holds any more, and uploads that nobody goes on with. */
export class FileJob {
  private readonly store: Store;
  private readonly storage: FileStorage;
  private readonly uploads: Uploads;
  private readonly keepFor: number;
  private readonly report: (error: unknown) => void;
  private timer: NodeJS.Timeout | undefined;
  private round: Promise<void> = Promise.resolve();

  /** @param keepDays as deleted rows are kept: one may be brought back. @param report told of rounds that failed. */
  constructor(
    { store, storage, uploads }: { readonly store: Store; readonly storage: FileStorage; readonly uploads: Uploads },
    keepDays: number,
    report: (error: unknown) => void,
  ) {
    this.keepFor = keepDays * 86_400_000;
    this.store = store;
    this.storage = storage;
    this.uploads = uploads;
    this.report = report;
  }

  /** Tidies from now on, until it is stopped. */
  start(): void {
    const tidy = () => {
      this.round = this.round.then(() => this.tidy(Date.now())).catch(this.report);
    };
    tidy();
    this.timer = setInterval(tidy, roundEvery).unref();
  }

  /** Stops; a round that is under way ends first. */
  async stop(): Promise<void> {
    clearInterval(this.timer);
    await this.round;
  }

  /** One round. A content goes that its row has not held for so long that neither the trash nor an undo brings it back. */
  private async tidy(now: number): Promise<void> {
    await this.uploads.tidy(now);
    for await (const file of this.storage.all()) {
      const { unheldSince, ...held } = file;
      const isHeld = await this.isHeld(file);
      if (isHeld !== false) {
        if (isHeld && unheldSince !== undefined) await this.storage.note(held);
      } else if (unheldSince === undefined) await this.storage.note({ ...file, unheldSince: now });
      else if (now - unheldSince >= this.keepFor) await this.storage.remove(file);
    }
  }

  /** Tells whether its row holds a content; undefined for a column that is not in the schema, since an older one may be served for a while. */
  private async isHeld({ place: { table, row, column, id } }: StoredFile): Promise<boolean | undefined> {
    const { tables } = this.store.schema;
    const definition = Object.hasOwn(tables, table) ? tables[table] : undefined;
    if (definition === undefined || !Object.hasOwn(definition.columns, column)) return undefined;
    const [found] = await this.store.read((reader) =>
      reader.rowsWhere(table, { kind: 'compare', column: 'id', sign: '=', value: row }),
    );
    return (found?.[column] as FileValue | null | undefined)?.id === id;
  }
}
