import { KoinonError } from '@koinon/core';

/** The version of Koinon's own tables in a server's database. A change to them counts it up and brings older ones up to it. */
export const layoutVersion = 1;

/** Its name among the facts that a store keeps about itself. */
export const layoutName = 'layout version';

/**
 * Refuses a database that a newer Koinon has prepared, before anything in it is changed.
 *
 * @param found the version as the database has it; undefined where Koinon never served it.
 * @throws KoinonError `layout-newer`.
 */
export function refuseNewerLayout(database: string, found: string | undefined): void {
  if (found !== undefined && Number(found) > layoutVersion)
    throw new KoinonError(
      'layout-newer',
      `${database} was prepared by a newer Koinon: its own tables have version ${found}, this one knows ${layoutVersion}. Start the newer server; nothing was changed.`,
      { value: found },
    );
}
