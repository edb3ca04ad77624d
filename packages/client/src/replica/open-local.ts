import type { Only, Schema } from '@koinon/core';
import { heldPart } from '@koinon/core/internal';
import { Database } from '../database/database.ts';
import {
  isOlder,
  isReplicaFile,
  meta,
  type Prepare,
  prepareLayout,
  refuseNewerLayout,
  setMeta,
} from '../database/layout.ts';
import type { SqlDriver } from '../driver/driver.ts';
import { storageError } from '../driver/errors.ts';
import { asGiven } from '../engine/current.ts';
import { systemHost } from '../host/host.ts';
import { wasSent } from '../outbox/outbox.ts';
import { noPredictions, type Predictions } from '../outbox/prediction-list.ts';
import { noConflicts } from '../overlay/conflict-list.ts';
import { noKeys } from '../rows/known-keys.ts';
import { checkOptions } from './check-options.ts';
import { LocalReplica, type Parts } from './local.ts';
import type { ReplicaOptions } from './open.ts';
import type { Replica } from './replica.ts';
import { Unlinked } from './sync-part.ts';

/** Opens a replica in this thread. @param draft makes its drafts. @throws KoinonError as `openReplica` says. */
export async function openLocal<S extends Schema>(
  options: ReplicaOptions<S>,
  draft: Parts<S>['draft'],
): Promise<Replica<S>> {
  checkOptions(options);
  const {
    schema: appSchema,
    host = systemHost,
    stallLimit = 10_000,
    file = ':memory:',
    durability = 'process',
  } = options;
  const { prebuilt, seed } = options;
  const schema = heldPart(appSchema);
  const database = new Database(options.driver ?? (await openFile(file, prebuilt)));
  try {
    if (durability === 'power-loss') database.driver.exec('PRAGMA synchronous = full');
    // Code that only few openings need is loaded only for them: a page should not fetch what it does not use.
    const isNew = !isReplicaFile(database);
    if (!isNew) database.guarded(() => refuseNewerLayout(database));
    prepareLayout(database, schema, options.migrations ?? {}, await preparationOf(database, schema));
    database.transact(() => {
      // New, or a copy that left its original's identity behind.
      if (meta(database, 'replica') === undefined) setMeta(database, 'replica', host.newId());
      if (isNew && seed) setMeta(database, 'seed', 'due');
    });
    const replica = new LocalReplica<S>(
      appSchema,
      database,
      host,
      {
        draft,
        syncing: await syncingOf(options),
        ...(await disputesOf({ ...options, schema }, database)),
        ...(await keysOf(schema, database)),
        predictions: await predictionsOf(schema, database),
      },
      stallLimit,
    );
    if (seed && meta(database, 'seed') === 'due')
      await replica.transaction(async (transaction) => {
        await seed(transaction);
        setMeta(database, 'seed', 'done');
      });
    replica.startSync();
    return replica;
  } catch (error) {
    database.close();
    throw storageError(error);
  }
}

/** The step that makes a file a replica of this schema, where it is not one. */
async function preparationOf(database: Database, schema: Schema): Promise<Prepare | undefined> {
  if (!isReplicaFile(database)) return (await import('../database/create.ts')).create;
  return isOlder(database, schema) ? (await import('../database/bring-up.ts')).bringUp : undefined;
}

/** The code that deals with conflicts and refusals: of a replica without a server it is loaded only where there are any from an earlier time. */
async function disputesOf<S extends Schema>(
  { schema, server }: ReplicaOptions<S>,
  database: Database,
): Promise<Pick<Parts<S>, 'conflicts' | 'replaceRejected'>> {
  const hasConflicts = () => database.once('SELECT 1 FROM koinon_conflict LIMIT 1').length > 0;
  if (server === undefined && !database.guarded(() => hasConflicts() || wasSent(database)))
    return { conflicts: noConflicts, replaceRejected: undefined };
  const [{ Conflicts }, { sendAgainWith }] = await Promise.all([
    import('../overlay/conflicts.ts'),
    import('../overlay/replace-rejected.ts'),
  ]);
  return { conflicts: new Conflicts(database, schema), replaceRejected: sendAgainWith };
}

/** The code that knows rows by other ids: only where the database gives the keys of a table. */
async function keysOf<S extends Schema>(schema: S, database: Database): Promise<Pick<Parts<S>, 'keys' | 'current'>> {
  if (!Object.values(schema.tables).some(({ assignedKey }) => assignedKey)) return { keys: noKeys, current: asGiven };
  const [{ AssignedKeys }, { currentIdsOf }] = await Promise.all([
    import('../rows/assigned-keys.ts'),
    import('../engine/current-ids.ts'),
  ]);
  const keys = new AssignedKeys(database, schema);
  return { keys, current: currentIdsOf({ schema, keys }) };
}

const hasPredictions = (database: Database) =>
  database.once("SELECT 1 FROM sqlite_schema WHERE name = 'koinon_prediction'").length > 0;

/** The code that knows what actions are expected to do: only for schemas with actions. */
async function predictionsOf(schema: Schema, database: Database): Promise<Predictions> {
  // An app may have dropped its actions, and a file may still have what the last ones were expected to do.
  const isNeeded = Object.keys(schema.actions).length > 0;
  if (!isNeeded && !database.guarded(() => hasPredictions(database))) return noPredictions;
  const { StoredPredictions } = await import('../outbox/predictions.ts');
  return new StoredPredictions(database, schema);
}

/** The part that syncs, where there is a server to sync with. */
async function syncingOf<S extends Schema>({
  server,
  sync,
  token,
  only,
  schema: appSchema,
}: ReplicaOptions<S>): Promise<Parts<S>['syncing']> {
  if (server === undefined) return (engine, doing) => new Unlinked(engine, doing);
  const { Syncing } = await import('./syncing.ts');
  const transport =
    typeof server === 'string'
      ? (await import('../sync/transport.ts')).httpTransport(server, token && { token })
      : server;
  const options = sync === 'automatic' ? {} : sync;
  return (engine, doing) =>
    new Syncing(engine, transport, { options, only: only as Only | undefined, appSchema }, doing);
}

/** Opens a file by Node's driver, which is loaded only where it is used; a file that is not there starts as the prebuilt one. */
async function openFile(file: string, prebuilt: string | undefined): Promise<SqlDriver> {
  const { copyPrebuilt, openNodeDriver } = await import('#node-driver');
  if (prebuilt !== undefined) await copyPrebuilt(prebuilt, file);
  return openNodeDriver({ file });
}
