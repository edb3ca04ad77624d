import { existsSync } from 'node:fs';
import { KoinonError } from '@koinon/core';
import {
  adoptPostgres,
  adoptSqlite,
  type DatabaseFacts,
  type Effects,
  type KnownReplica,
  type OpenEffect,
  postgresDdl,
  type Store,
  sqliteDdl,
} from '@koinon/server';
import { isPostgres, openDatabase, shownDatabase } from '../commands/database.ts';
import type { SchemaModule } from '../schema-module/load.ts';
import { checkFiles } from './files.ts';
import { counted, type Finding, findingsOf } from './finding.ts';

const { ok, warning, failure } = findingsOf('database');

/** The findings about a server's database. */
export interface DatabaseCheck {
  readonly findings: readonly Finding[];
  /** The replicas that the server has heard of; undefined where that could not be read. */
  readonly replicas: readonly KnownReplica[] | undefined;
}

/** Looks at a server's database: whether it is there, fits the schema, and is followed. Changes nothing. */
export async function checkDatabase(
  module: SchemaModule,
  path: string,
  database: string,
  looks: { readonly rows: boolean; readonly files: string | undefined },
): Promise<DatabaseCheck> {
  const shown = shownDatabase(database);
  const only = (finding: Finding): DatabaseCheck => ({ findings: [finding], replicas: undefined });
  if (!isPostgres(database) && !existsSync(database))
    return only(
      failure('database-missing', `There is no file ${shown}.`, `\`koinon serve\` makes it; or correct the path.`),
    );
  const findings: Finding[] = [];
  try {
    findings.push(...(await fits(module, database)));
    const { schema, mapping } = module;
    const lacking = isPostgres(database)
      ? await postgresDdl(schema, database, mapping)
      : await sqliteDdl(schema, database, mapping);
    findings.push(ok('reachable', `${shown} is there, and fits the schema.`), ...lacks(lacking, path, shown));
  } catch (error) {
    return only(refused(error, shown));
  }
  const replicas = await known(module, database, findings, { path: looks.rows ? path : undefined, files: looks.files });
  return { findings, replicas };
}

/** The tables that others made, against the mapping. */
async function fits({ schema, mapping }: SchemaModule, database: string): Promise<Finding[]> {
  if (Object.keys(mapping).length === 0) return [];
  const adoption = await (isPostgres(database) ? adoptPostgres(database) : adoptSqlite(database));
  return adoption
    .compare(schema, mapping)
    .filter(({ table }) => Object.hasOwn(mapping, table))
    .map(({ table, column, message }) =>
      warning(
        'table-differs',
        `${table}${column === null ? '' : `.${column}`}: ${message}`,
        'Correct the schema module, or the table.',
      ),
    );
}

/** The parts of Koinon's own tables and triggers that are missing. */
function lacks(statements: readonly string[], path: string, database: string): Finding[] {
  if (statements.length === 0) return [ok('prepared', 'The database has all that Koinon needs.')];
  const ddl = `\`koinon ddl ${path} ${database}\` prints the SQL; run it, or let \`koinon serve\` do that.`;
  const isServed = !statements.some((sql) => /CREATE TABLE (IF NOT EXISTS )?"?koinon[._]meta"?/i.test(sql));
  if (!isServed) return [failure('not-prepared', 'The database was not prepared for Koinon yet.', ddl)];
  const triggers = statements.filter((sql) => /\bTRIGGER\b/i.test(sql)).length;
  if (triggers > 0)
    return [
      failure(
        'not-followed',
        'Triggers that follow the tables are missing or changed: devices do not get what other programs write.',
        `${ddl} Then \`koinon resend-all ${path} ${database}\` sends what was missed.`,
      ),
    ];
  return [
    failure('layout-lacks', `The database lacks ${counted(statements.length, 'part')} of what Koinon needs.`, ddl),
  ];
}

function refused(error: unknown, database: string): Finding {
  if (!(error instanceof KoinonError)) throw error;
  const { code, message } = error;
  if (code === 'storage-refused')
    return failure('unreachable', message, 'Look at the address, the password, and whether the database is running.');
  if (code === 'storage-foreign')
    return failure('device-file', message, 'Name the database of the server, not the file of a device.');
  if (code === 'layout-newer') return failure('newer-layout', message, 'Use the newer version of Koinon.');
  return failure(
    'does-not-fit',
    message,
    `Correct the schema or its mapping; \`koinon adopt ${database}\` shows what is there.`,
  );
}

/** The rows that came or went while no trigger followed their table. */
async function unfollowed(store: Store, path: string, database: string): Promise<Finding[]> {
  const findings: Finding[] = [];
  for (const [table, { home }] of Object.entries(store.schema.tables)) {
    if (home === 'device') continue;
    const { unknown, gone } = await store.read((reader) => reader.unfollowedRows(table));
    if (unknown + gone === 0) continue;
    findings.push(
      failure(
        'rows-not-followed',
        `${table}: ${counted(unknown, 'row')} came and ${counted(gone, 'row')} went while nothing followed the table; devices do not know.`,
        `\`koinon resend-all ${path} ${database}\` sends them.`,
      ),
    );
  }
  return findings.length > 0 ? findings : [ok('rows', 'The feed knows of every row.')];
}

/** Milliseconds by which the clocks of database and machine may differ before it is worth a word. */
const mostClockDifference = 60_000;

/** The database as its operator looks at it: version, size of the feed, clock, rights. */
function facts({ version, clock, rows, deletions, keptSince, lackingRights }: DatabaseFacts): Finding[] {
  const since = keptSince === null ? '' : `; deletions are kept since ${new Date(keptSince).toISOString()}`;
  const difference = Math.round((clock - Date.now()) / 1_000);
  return [
    ok('feed', `${version}. The feed knows ${counted(rows, 'row')} and ${counted(deletions, 'deletion')}${since}.`),
    ...(Math.abs(difference) * 1_000 < mostClockDifference
      ? []
      : [
          warning(
            'database-clock',
            `The database's clock is ${counted(Math.abs(difference), 'second')} ${difference > 0 ? 'ahead of' : 'behind'} this one; one of the two is wrong.`,
            'Set it: the times of edits that other programs make are those of the database.',
          ),
        ]),
    ...lackingRights.map(({ table, rights }) =>
      failure(
        'no-rights',
        `The server's user may not ${rights.join(', ')} ${table}: what devices do there is refused.`,
        `GRANT ${rights.join(', ')} on the table to that user; or say readOnly: true of the table.`,
      ),
    ),
  ];
}

/** Effects that are looked at. */
const mostEffects = 1_000;

/** What actions have asked for, and could not be carried out so far. */
function effects(open: readonly OpenEffect[], known: Effects, database: string): Finding[] {
  const lacking = open.filter(({ name }) => !Object.hasOwn(known, name));
  const failing = open.filter(({ error }) => error !== null);
  const [first] = failing;
  if (lacking.length === 0 && first === undefined)
    return open.length === 0
      ? []
      : [ok('effects', `${counted(open.length, 'effect')} of actions are to be carried out.`)];
  return [
    ...(lacking.length === 0
      ? []
      : [
          warning(
            'effects-without-function',
            `${counted(lacking.length, 'effect')} of actions cannot be carried out: there is no function for ${[...new Set(lacking.map(({ name }) => name))].join(', ')}.`,
            'Add the function to `effects` of the schema module, and start the server again. The effects are kept until then.',
          ),
        ]),
    ...(first === undefined
      ? []
      : [
          warning(
            'effects-failing',
            `${counted(failing.length, 'effect')} of actions failed and will be tried again; ${first.name} said: ${first.error}`,
            `\`koinon effects\` lists them with ${database}. Correct what the functions need.`,
          ),
        ]),
  ];
}

/** Rows that a query may well go through one by one. */
const fewRows = 20_000;

/** The tables that devices query, since the server holds them. */
async function queried(store: Store): Promise<Finding[]> {
  const findings: Finding[] = [];
  for (const [table, { home, index, unique }] of Object.entries(store.schema.tables)) {
    if (home !== 'server') continue;
    const rows = await store.read((reader) => reader.countRows(table));
    findings.push(
      rows > fewRows && index.length + unique.length === 0
        ? warning(
            'queries-without-index',
            `${table}, which devices query, has ${counted(rows, 'row')} and no index: a query that asks by anything but the id goes through all of them.`,
            'Give the table an `index` in the schema for the columns that apps ask and order by.',
          )
        : ok('held-by-server', `${table} is queried by devices, and on none of them: ${counted(rows, 'row')}.`),
    );
  }
  return findings;
}

async function known(
  module: SchemaModule,
  database: string,
  findings: Finding[],
  /** The path of the schema module where all rows are to be looked at, and the folder of contents where those are. */
  { path, files }: { readonly path: string | undefined; readonly files: string | undefined },
): Promise<readonly KnownReplica[] | undefined> {
  try {
    const store = await openDatabase(module, database, { mode: 'read' });
    try {
      const replicas = await store.read((reader) => reader.replicas());
      const blocked = replicas.filter(({ isBlocked }) => isBlocked);
      findings.push(...facts(await store.read((reader) => reader.facts())));
      findings.push(ok('devices', `The server has heard of ${counted(replicas.length, 'replica')}.`));
      if (blocked.length > 0)
        findings.push(
          warning(
            'blocked-devices',
            `${counted(blocked.length, 'replica')} ${blocked.length === 1 ? 'is' : 'are'} blocked: ${blocked.map(({ id }) => id).join(', ')}.`,
            '`koinon replicas` shows and unblocks them.',
          ),
        );
      const open = await store.read((reader) => reader.openEffects(mostEffects));
      findings.push(...effects(open, module.effects, shownDatabase(database)));
      findings.push(...(await queried(store)));
      if (path !== undefined) findings.push(...(await unfollowed(store, path, shownDatabase(database))));
      if (files !== undefined) findings.push(...(await checkFiles(store, files)));
      return replicas;
    } finally {
      await store.close();
    }
  } catch {
    // The finding about it is made already: it is not prepared, or does not fit.
    return undefined;
  }
}
