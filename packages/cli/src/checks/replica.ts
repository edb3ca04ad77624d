import { type Inspection, inspectReplica, openNodeDriver, verifyFile } from '@koinon/client';
import { KoinonError, type Schema } from '@koinon/core';
import { counted, type Finding, findingsOf } from './finding.ts';

const { ok, warning, failure } = findingsOf('replica');

/** Milliseconds after which an edit that was not sent is worth a word. */
const oldEdit = 24 * 3_600_000;

/** The findings about a replica file. */
export interface ReplicaCheck {
  readonly findings: readonly Finding[];
  /** The replica's id; undefined where the file could not be read. */
  readonly id: string | undefined;
  /** When it was last in step with a server; null: never. */
  readonly syncedAt: string | null;
}

/** Looks into a replica file. Changes nothing; an app may have it open. */
export async function checkReplica(schema: Schema | undefined, file: string): Promise<ReplicaCheck> {
  let look: Inspection;
  try {
    look = await inspectReplica(file);
  } catch (error) {
    if (!(error instanceof KoinonError)) throw error;
    const cure = error.code === 'storage-damaged' ? '`koinon rescue` reads what can be read.' : 'Look at the path.';
    return { findings: [failure(error.code, error.message, cure)], id: undefined, syncedAt: null };
  }
  try {
    const { replicaId, schemaVersion, syncedAt } = look;
    const findings = [
      ok(
        'file',
        `The replica has version ${schemaVersion} of the schema, and was in step with its server ${syncedAt === null ? 'never' : `at ${syncedAt}`}.`,
      ),
      ...versions(schema, schemaVersion),
      ...unsent(look),
      ...lastRun(look),
      ...rowsForAWhile(look),
      ...(await verified(schema, schemaVersion, file)),
    ];
    return { findings, id: replicaId, syncedAt };
  } finally {
    look.close();
  }
}

function versions(schema: Schema | undefined, version: number): Finding[] {
  if (schema === undefined || version <= schema.version) return [];
  return [
    failure(
      'newer-schema',
      `The file has version ${version} of the schema, and the module version ${schema.version}.`,
      'Update the app.',
    ),
  ];
}

/** The edits that were not sent, and the reasons why. */
function unsent(look: Inspection): Finding[] {
  const transactions = look.outbox().filter(({ state }) => state !== 'confirmed');
  const refused = transactions.filter(({ state }) => state === 'rejected');
  const waiting = transactions.filter(({ state }) => state !== 'rejected');
  const conflicts = look.conflicts();
  const findings: Finding[] = [];
  const [oldest] = waiting.map(({ editedAt }) => editedAt).sort();
  if (oldest === undefined) findings.push(ok('sent', 'Nothing waits to be sent.'));
  else {
    const isOld = Date.now() - Date.parse(oldest) > oldEdit;
    const message = `${counted(waiting.length, 'transaction')} ${waiting.length === 1 ? 'waits' : 'wait'} to be sent, the oldest since ${oldest}.`;
    findings.push(
      isOld ? warning('unsent', message, '`koinon sync` sends them, or says why not.') : ok('unsent', message),
    );
  }
  if (refused.length > 0)
    findings.push(
      warning(
        'refused',
        `The server has refused ${counted(refused.length, 'transaction')}: ${refused[0]?.problems[0]?.message ?? ''}`,
        'Correct the rows in the app, or take the edits back.',
      ),
    );
  if (conflicts.length > 0)
    findings.push(
      warning(
        'conflicts',
        `${counted(conflicts.length, 'column')} in conflict ${conflicts.length === 1 ? 'waits' : 'wait'} for a decision.`,
        'Decide in the app; what depends on it waits.',
      ),
    );
  return findings;
}

function lastRun(look: Inspection): Finding[] {
  const [run] = look.journal(1);
  if (run === undefined || run.error === null) return [];
  return [
    warning(
      'last-sync',
      `The last sync, at ${run.at}, has failed: ${run.error.message} (${run.error.code})`,
      '`koinon check --server` asks the server.',
    ),
  ];
}

/** The age, in milliseconds, from which on the rows of a source are worth a word. */
const oldRows = 24 * 3_600_000;

/** Rows that are held by name, and rows of services of others. */
function rowsForAWhile(look: Inspection): Finding[] {
  const leaving = look.holdings().filter(({ state }) => state === 'leaving');
  const old = look.sources().filter(({ checkedAt }) => Date.now() - Date.parse(checkedAt) > oldRows);
  return [
    ...leaving.map(({ name }) =>
      warning(
        'holding-leaving',
        `The holding ${name} was let go, and stays while something of its rows is unsent.`,
        'Send it, or take the edits back.',
      ),
    ),
    ...old.map(({ table, checkedAt }) =>
      warning(
        'source-old',
        `The rows of ${table}, which a service of others fills, are as they were at ${checkedAt}.`,
        'Look at the service, and at the `allow` of its source in the app.',
      ),
    ),
  ];
}

async function verified(schema: Schema | undefined, version: number, file: string): Promise<Finding[]> {
  if (schema === undefined || version !== schema.version) return [];
  const driver = await openNodeDriver({ file, readOnly: true });
  try {
    const found = verifyFile(driver, schema);
    if (found.length === 0) return [ok('sound', 'The file keeps its own rules.')];
    return [
      failure(
        'unsound',
        `The file breaks ${counted(found.length, 'rule')} of its own: ${found[0]?.message}`,
        'Keep a copy of the file, and report this.',
      ),
    ];
  } finally {
    driver.close();
  }
}
