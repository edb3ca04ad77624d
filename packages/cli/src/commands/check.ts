import { KoinonError } from '@koinon/core';
import type { KnownReplica } from '@koinon/server';
import { Command, InvalidArgumentError } from 'commander';
import { decodeJwt } from 'jose';
import pc from 'picocolors';
import { compareRows } from '../checks/compare.ts';
import { checkDatabase } from '../checks/database.ts';
import { type Finding, findingsOf } from '../checks/finding.ts';
import { checkReplica, type ReplicaCheck } from '../checks/replica.ts';
import { checkServer } from '../checks/server.ts';
import { loadModule } from '../schema-module/load.ts';
import { databaseWords } from './database.ts';
import { printJson } from './output.ts';

interface CheckWords {
  readonly database?: string;
  readonly server?: string;
  readonly token?: string;
  readonly origin?: string;
  readonly replica?: string;
  readonly rows?: boolean;
  readonly files?: string;
  readonly liveFor?: number;
  readonly json?: boolean;
}

/** `koinon check`: the usual mistakes, found. */
export function checkCommand(): Command {
  return new Command('check')
    .description(
      'Look for the usual mistakes in a database, a server and a replica, and say what mends each. Changes nothing. Exit code 1 if something fails.',
    )
    .argument('[schema]', 'the module that exports the app’s schema; needed for a database')
    .option('--database <database>', databaseWords)
    .option('--rows', 'look at all rows as well: of the database, and of a replica against its server')
    .option('--files <folder>', 'the folder of the server’s contents of files: whether it has those of all rows')
    .option('--live-for <seconds>', 'keep a live connection open for so long: a proxy may cut it', seconds)
    .option('--server <url>', 'where the server answers, such as http://127.0.0.1:4280')
    .option('--token <token>', 'who asks, where the server knows users')
    .option('--origin <origin>', 'the origin of a web page that is to ask the server, such as https://app.example.org')
    .option('--replica <file>', 'the SQLite file of a device')
    .option('--json', 'print a JSON list of findings')
    .addHelpText(
      'after',
      '\nExamples:\n  koinon check schema.ts --database office.db --server http://127.0.0.1:4280\n  koinon check --server https://sync.example.org --token "$TOKEN" --origin https://app.example.org\n  koinon check schema.ts --replica phone.db',
    )
    .action(async (path: string | undefined, words: CheckWords) => {
      const { database, server, token, origin, replica } = words;
      if (database === undefined && server === undefined && replica === undefined)
        throw new KoinonError('argument-invalid', 'Say what is to be looked at: --database, --server or --replica.');
      if (database !== undefined && path === undefined)
        throw new KoinonError(
          'argument-invalid',
          'A database is compared with a schema: name the schema module first.',
        );
      if (words.files !== undefined && database === undefined)
        throw new KoinonError('argument-invalid', 'Contents are compared with rows: name the --database as well.');
      const module = path === undefined ? undefined : await loadModule(path);
      const findings: Finding[] = [];
      let known: readonly KnownReplica[] | undefined;
      if (database !== undefined && module !== undefined && path !== undefined) {
        const found = await checkDatabase(module, path, database, {
          rows: words.rows === true,
          files: words.files,
        });
        findings.push(...found.findings);
        known = found.replicas;
      }
      if (server !== undefined)
        findings.push(...(await checkServer(module?.schema, { url: server, token, origin, liveFor: words.liveFor })));
      if (replica !== undefined) {
        const found = await checkReplica(module?.schema, replica);
        findings.push(...found.findings, ...together(found, known, token));
        if (words.rows === true && server !== undefined && module !== undefined && found.id !== undefined)
          findings.push(...(await compareRows(module.schema, replica, { url: server, token })));
      }
      if (findings.some(({ level }) => level === 'failure')) process.exitCode = 1;
      if (words.json) printJson(findings);
      else print(findings);
    });
}

function seconds(words: string): number {
  const given = Number(words);
  if (Number.isFinite(given) && given > 0 && given <= 3_600) return given;
  throw new InvalidArgumentError('Give a number of seconds, up to 3600.');
}

const { ok, failure } = findingsOf('together');

/** Milliseconds within which a server writes down that a replica has asked. */
const notedWithin = 5 * 60_000;

/** Tells whether a replica and a database belong together, and to one user. */
function together(
  { id, syncedAt }: ReplicaCheck,
  known: readonly KnownReplica[] | undefined,
  token: string | undefined,
): Finding[] {
  if (known === undefined || id === undefined || syncedAt === null) return [];
  const entry = known.find((each) => each.id === id);
  // A server writes down a little later that it was asked.
  if (entry === undefined && Date.now() - Date.parse(syncedAt) < notedWithin) return [];
  if (entry === undefined)
    return [
      failure(
        'other-server',
        'The server of this database has never heard of the replica: it syncs with another one.',
        'Look at the address that the app has.',
      ),
    ];
  if (entry.isBlocked)
    return [failure('blocked', 'The server has blocked this replica.', '`koinon replicas` unblocks it.')];
  const user = userOf(token);
  if (user !== undefined && entry.user !== null && entry.user !== user)
    return [
      failure(
        'other-user',
        `The replica belongs to user ${entry.user}, and the token is of user ${user}.`,
        'Sign in as that user, or give the device a replica of its own for each user.',
      ),
    ];
  return [ok('known', `The server has heard of the replica last at ${entry.lastSeen}.`)];
}

function userOf(token: string | undefined): string | undefined {
  try {
    return token === undefined ? undefined : decodeJwt(token).sub;
  } catch {
    return undefined;
  }
}

const marks = { ok: pc.green('ok     '), warning: pc.yellow('warning'), failure: pc.red('failure') } as const;

function print(findings: readonly Finding[]): void {
  for (const { part, level, message, cure } of findings) {
    console.log(`${marks[level]}  ${part}: ${message}`);
    if (cure !== null) console.log(`         ${cure}`);
  }
  const count = (level: Finding['level']) => findings.filter((finding) => finding.level === level).length;
  console.log(`\n${count('ok')} ok, ${count('warning')} to look at, ${count('failure')} failed.`);
}
