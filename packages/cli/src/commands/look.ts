import { existsSync } from 'node:fs';
import { type InspectedFile, type Inspection, inspectReplica, type SyncRun, type TableTraffic } from '@koinon/client';
import { folderContents } from '@koinon/client/files';
import { KoinonError } from '@koinon/core';
import { Argument, Command } from 'commander';
import { printJson, printTable, short } from './output.ts';

const parts = ['summary', 'outbox', 'actions', 'conflicts', 'files', 'journal'] as const;

interface LookOptions {
  readonly sql?: string;
  readonly contents?: string;
  readonly json?: boolean;
}

/** `koinon look`: what is in a replica file. */
export function lookCommand(): Command {
  return new Command('look')
    .description('Look into a replica file. Nothing is changed; an app may have it open.')
    .argument('<file>', 'the replica’s SQLite file')
    .addArgument(new Argument('[part]', 'what to show').choices(parts).default('summary'))
    .option('--sql <query>', 'run SQL that reads instead')
    .option('--contents <folder>', 'the folder in which the app keeps the contents of files')
    .option('--json', 'print JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  koinon look phone.db\n  koinon look phone.db outbox\n  koinon look phone.db files --contents phone.db.files\n  koinon look phone.db --sql "SELECT mark, strength FROM hive LIMIT 5"',
    )
    .action(async (file: string, part: (typeof parts)[number], options: LookOptions) => {
      const look = await inspectReplica(file);
      try {
        if (options.sql !== undefined) showRows(look.select({ text: options.sql, values: [] }), options.json);
        else if (part === 'outbox') showOutbox(look, options.json);
        else if (part === 'actions') showActions(look, options.json);
        else if (part === 'conflicts') showConflicts(look, options.json);
        else if (part === 'files') await showFiles(look, options);
        else if (part === 'journal') showJournal(look.journal(20), options.json);
        else showSummary(look, options.json);
      } finally {
        look.close();
      }
    });
}

function showRows(rows: readonly Readonly<Record<string, unknown>>[], json: boolean | undefined): void {
  if (json) {
    printJson(rows);
    return;
  }
  const head = Object.keys(rows[0] ?? {});
  printTable(
    head,
    rows.map((row) => head.map((name) => short(row[name] ?? ''))),
    'No rows.',
  );
}

function showSummary(look: Inspection, json: boolean | undefined): void {
  const { replicaId, schemaVersion, position, syncedAt } = look;
  const tables = look.tables();
  const outbox = look.outbox();
  const count = (state: string) => outbox.filter((transaction) => transaction.state === state).length;
  const transactions = {
    pending: count('pending'),
    attempted: count('attempted'),
    confirmed: count('confirmed'),
    rejected: count('rejected'),
  };
  const conflicts = look.conflicts().length;
  const holdings = look.holdings();
  const sources = look.sources();
  if (json) {
    printJson({ replicaId, schemaVersion, position, syncedAt, tables, transactions, conflicts, holdings, sources });
    return;
  }
  console.log(`Replica ${replicaId}, schema version ${schemaVersion}`);
  console.log(
    `Last in step with the server: ${syncedAt ?? 'never'}${position === null ? '' : `, at position ${position}`}`,
  );
  console.log(
    `Outbox: ${transactions.pending} pending, ${transactions.attempted} attempted, ${transactions.confirmed} confirmed, ${transactions.rejected} rejected; conflicts: ${conflicts}`,
  );
  for (const { name, from, where, state } of holdings)
    console.log(`Holding ${name}: ${from}${where === null ? '' : ` where ${short(where)}`}, ${state}`);
  for (const { table, checkedAt } of sources) console.log(`Source of ${table}: as it was at ${checkedAt}`);
  printTable(['table', 'rows'], Object.entries(tables), 'No tables.');
}

function showOutbox(look: Inspection, json: boolean | undefined): void {
  const outbox = look.outbox();
  if (json) {
    printJson(outbox);
    return;
  }
  const rows = outbox.flatMap(({ id, state, editedAt, changes, problems }) =>
    changes.map(({ kind, table, id: row, columns }, i) => [
      i === 0 ? id : '',
      i === 0 ? state : '',
      i === 0 ? editedAt : '',
      `${kind} ${table} ${row}`,
      i === 0 && problems.length > 0 ? short(problems.map(({ message }) => message).join(' ')) : short(columns ?? ''),
    ]),
  );
  printTable(
    ['transaction', 'state', 'edited', 'change', 'columns, or why it was refused'],
    rows,
    'The outbox is empty.',
  );
}

function showActions(look: Inspection, json: boolean | undefined): void {
  const calls = look.invocations();
  if (json) {
    printJson(calls);
    return;
  }
  const rows = calls.map(({ name, input, state, invokedAt, result, problems }) => [
    name,
    invokedAt,
    state,
    short(input),
    problems.length > 0 ? short(problems.map(({ message }) => message).join(' ')) : short(result ?? ''),
  ]);
  printTable(
    ['action', 'invoked', 'state', 'input', 'result, or why it was refused'],
    rows,
    'No action was invoked in the last days.',
  );
}

function showConflicts(look: Inspection, json: boolean | undefined): void {
  const conflicts = look.conflicts();
  if (json) {
    printJson(conflicts);
    return;
  }
  const side = (value: unknown, at: string | null, by: string | null = null) =>
    [short(value), at ?? '', by === null ? '' : `by ${by}`].filter((line) => line !== '').join('\n');
  const rows = conflicts.map((conflict) => [
    `${conflict.table} ${conflict.id}`,
    conflict.column ?? 'the row',
    short(conflict.base),
    side(conflict.local, conflict.localEditedAt),
    side(conflict.remote, conflict.remoteEditedAt, conflict.remoteEditedBy),
    conflict.reason ?? 'both sides changed it',
  ]);
  printTable(['row', 'column', 'before', 'here', 'server', 'why'], rows, 'There are no conflicts.');
}

/** The words for where a content is, as a device has noted it. */
const contentWords = {
  unsent: 'here, not sent yet',
  sent: 'here and on the server',
  fetched: 'here and on the server',
};

async function showFiles(look: Inspection, { contents, json }: LookOptions): Promise<void> {
  const files = look.files();
  if (contents !== undefined && !existsSync(contents))
    throw new KoinonError('storage-refused', `There is no folder ${contents}.`, { value: contents });
  const notes = contents === undefined ? [] : await folderContents(contents).notes();
  const states = new Map(notes.map(({ file, state }) => [file.id, state]));
  const held = new Set(files.map(({ file }) => file.id));
  const unheld = notes.filter(({ file }) => !held.has(file.id));
  if (json) {
    const stated = files.map((file) => ({ ...file, content: states.get(file.file.id) ?? null }));
    printJson(contents === undefined ? files : { files: stated, unheld });
    return;
  }
  const state = ({ file }: InspectedFile) => {
    const found = states.get(file.id);
    return found === undefined ? 'not here' : contentWords[found];
  };
  printTable(
    ['row', 'column', 'name', 'type', 'bytes', ...(contents === undefined ? [] : ['content'])],
    files.map((found) => {
      const { table, row, column, file } = found;
      const words = [`${table} ${row}`, column, file.name ?? '', file.type, String(file.bytes)];
      return contents === undefined ? words : [...words, state(found)];
    }),
    'No row holds a file.',
  );
  if (unheld.length > 0) console.log(`Contents that no row holds: ${unheld.length}. They are removed within a day.`);
}

function showJournal(runs: readonly SyncRun[], json: boolean | undefined): void {
  if (json) {
    printJson(runs);
    return;
  }
  const rows = runs.map(({ at, took, reason, error, bytes, down, up }) => [
    at,
    reason,
    `${took} ms`,
    `${((bytes.down + bytes.up) / 1000).toFixed(1)} kB`,
    moved(down),
    moved(up),
    error === null ? 'ok' : error.code,
  ]);
  printTable(['at', 'why', 'took', 'bytes', 'received', 'sent', 'result'], rows, 'There was no sync yet.');
}

/** The rows that went one way, table by table: new, changed, deleted rows, and those that are another one's now. */
const moved = (tables: Readonly<Record<string, TableTraffic>>) =>
  Object.entries(tables)
    .map(([table, { insert, update, delete: deleted, leave = 0 }]) => {
      const parts = [
        insert && `${insert} new`,
        update && `${update} changed`,
        deleted && `${deleted} deleted`,
        leave && `${leave} left`,
      ];
      return `${table}: ${parts.filter(Boolean).join(', ')}`;
    })
    .join('\n') || '-';
