import type { Database } from '../database/database.ts';
import { dataVersion } from '../database/read-only.ts';
import type { Host } from '../host/host.ts';

/** How often, in milliseconds, a file is looked at for another process's writes. */
const lookEvery = 500;

/** Notices what another process writes into the file. Where no other can have it open, there is nothing to notice. */
export class OtherWrites {
  private readonly database: Database;
  private readonly host: Host;
  private readonly exclusive: (work: () => void) => Promise<void>;
  private readonly noticed: () => void;
  private version = 0;
  /** Ends the looking that is under way. */
  private looking: { cancel: () => void } | undefined;

  /** @param turn runs work when no transaction of the app is open. @param noticed is called where something was written. */
  constructor(
    { database, host }: { readonly database: Database; readonly host: Host },
    exclusive: (work: () => void) => Promise<void>,
    noticed: () => void,
  ) {
    this.database = database;
    this.host = host;
    this.exclusive = exclusive;
    this.noticed = noticed;
  }

  /** Looks from now on. */
  start(): void {
    if (this.database.driver.isExclusive || this.looking) return;
    this.version = dataVersion(this.database);
    this.looking = { cancel: () => undefined };
    this.lookLater(this.looking);
  }

  stop(): void {
    this.looking?.cancel();
    this.looking = undefined;
  }

  private lookLater(looking: { cancel: () => void }): void {
    looking.cancel = this.host.after(lookEvery, () => {
      this.exclusive(() => {
        // It may have been ended, and begun anew, while this waited for its turn.
        if (this.looking !== looking) return;
        const version = dataVersion(this.database);
        if (version !== this.version) this.noticed();
        this.version = version;
        this.lookLater(looking);
      }).catch(() => undefined);
    });
  }
}
