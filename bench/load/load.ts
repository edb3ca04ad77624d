import type { ChildProcess } from 'node:child_process';
import { setTimeout as pause } from 'node:timers/promises';
import { postgresStore } from '@koinon/server';
import Table from 'cli-table3';
import { Command, InvalidArgumentError } from 'commander';
import pg from 'pg';
import { newPostgres, type Postgres } from '../postgres.ts';
import { processorSeconds, residentMegabytes } from '../processor-time.ts';
import { apiaries, apiaryName, hivesEach, notesEach, stateOf } from './apiaries.ts';
import { ask, end, start } from './child.ts';
import type { Compared, Counted } from './devices.ts';

// Many live replicas on several server processes and one PostgreSQL, all on this machine: what they take, how soon an edit is
// shown elsewhere, and whether all is there in the end, although the servers and the database were restarted meanwhile.

interface Options {
  readonly replicas: number;
  readonly apiary: number;
  readonly edits: readonly number[];
  readonly servers: number;
  readonly devices: number;
  readonly seconds: number;
  readonly json?: boolean;
}

const options = new Command('load')
  .option('--replicas <number>', 'live replicas', whole, 10_000)
  .option('--apiary <number>', 'replicas that share the rows of one apiary', whole, 4)
  .option(
    '--edits <rates>',
    'edits a second, such as 100,500: a while of each; the restarts are under the last',
    rates,
    [500],
  )
  .option('--servers <number>', 'server processes', whole, 2)
  .option('--devices <number>', 'processes that hold the replicas', whole, 4)
  .option('--seconds <number>', 'seconds of each part', whole, 60)
  .option('--json', 'print one JSON object')
  .parse()
  .opts<Options>();

/** A part of the run, with its figures. */
interface Part {
  readonly part: string;
  readonly seconds: number;
  readonly editsPerSecond: number;
  readonly deliveriesPerSecond: number;
  /** Milliseconds from an edit until another replica has shown it. */
  readonly shown: { readonly half: number; readonly most95: number; readonly most99: number; readonly most: number };
  /** Processors that were busy. */
  readonly processors: { readonly servers: number; readonly database: number | null; readonly devices: number };
  /** Seconds from the end of the disturbance until all replicas were live again; null where there was none. */
  readonly liveAgain: number | null;
}

const say = (text: string) => process.stderr.write(`${text}\n`);
const apiaryCount = Math.ceil(options.replicas / options.apiary);
const children: ChildProcess[] = [];
let postgres: Postgres | undefined;

async function run(): Promise<void> {
  postgres = await newPostgres(['max_connections=300', 'shared_buffers=256MB']);
  await fill(postgres.url);
  const port = String(30_000 + Math.floor(Math.random() * 10_000));
  const servers = await start('servers.ts', [
    new URL('server.ts', import.meta.url).pathname,
    String(options.servers),
    postgres.url,
    port,
    String(options.apiary),
  ]);
  children.push(servers);
  const serversAtFirst = residentMegabytes(servers.pid as number) ?? 0;
  const each = Math.ceil(options.replicas / options.devices);
  const devices: ChildProcess[] = [];
  for (let first = 0; first < options.replicas; first += each)
    devices.push(
      await start(
        'devices.ts',
        [`http://127.0.0.1:${port}`, ...[first, Math.min(each, options.replicas - first), options.apiary].map(String)],
        8_000,
      ),
    );
  children.push(...devices);
  const devicesAtFirst = memoryOf(devices);
  const all: Whole = { postgres, servers, devices };

  const opening = performance.now();
  await untilAllLive(devices, 3_600);
  const opened = (performance.now() - opening) / 1_000;
  const memory = {
    replica: (memoryOf(devices) - devicesAtFirst) / options.replicas,
    connection: ((residentMegabytes(servers.pid as number) ?? 0) - serversAtFirst) / options.replicas,
  };
  say(`${options.replicas} replicas are live after ${opened.toFixed(0)} s`);

  const parts: Part[] = [];
  const take = async (name: string, disturb?: () => Promise<void>) => {
    const part = await measurePart(all, name, disturb);
    parts.push(part);
    say(
      `${name}: ${part.editsPerSecond} edits/s, ${part.deliveriesPerSecond} rows/s, 95 % shown within ${part.shown.most95} ms, processors ${Object.values(part.processors).join(' + ')}`,
    );
  };
  for (const rate of options.edits) {
    for (const child of devices) await ask(child, { ask: 'edit', perSecond: rate / devices.length });
    await take(`${rate} edits a second`);
  }
  await take('servers restarted in turn', () => restarted(servers));
  await take('database restarted', () => postgres?.restart() ?? Promise.resolve());
  for (const child of devices) await ask(child, { ask: 'edit', perSecond: 0 });
  const verdict = await compareAll(all);
  print(parts, { opened, memory, verdict });
  if (verdict.lost + verdict.doubled + verdict.different + verdict.refused > 0) process.exitCode = 1;
}

/** What is measured. */
interface Whole {
  readonly postgres: Postgres;
  readonly servers: ChildProcess;
  readonly devices: readonly ChildProcess[];
}

/** Fills the database with all apiaries. */
async function fill(url: string): Promise<void> {
  await (await postgresStore(apiaries, url)).close();
  const client = new pg.Client(url);
  await client.connect();
  await client.query(
    `INSERT INTO hive (id, apiary, mark, frames) SELECT 'hive-' || a || '-' || n, 'apiary-' || a, 'Hive ' || n, 0 FROM generate_series(0, ${apiaryCount - 1}) a, generate_series(0, ${hivesEach - 1}) n`,
  );
  await client.query(
    `INSERT INTO note (id, apiary, hive, text, edit, "editedAt") SELECT 'note-of-' || a || '-' || n, 'apiary-' || a, 'hive-' || a || '-' || n % ${hivesEach}, 'Calm, brood on five frames, super added', 0, 0 FROM generate_series(0, ${apiaryCount - 1}) a, generate_series(0, ${notesEach - 1}) n`,
  );
  await client.end();
}

const memoryOf = (all: readonly ChildProcess[]) =>
  all.reduce((sum, { pid }) => sum + (residentMegabytes(pid as number) ?? 0), 0);
const secondsOf = (all: readonly ChildProcess[]) =>
  all.reduce((sum, { pid }) => sum + (processorSeconds(pid as number) ?? 0), 0);

async function countAll(devices: readonly ChildProcess[]): Promise<Counted> {
  const all = await Promise.all(devices.map((child) => ask(child, { ask: 'count' })));
  const sum = (of: (counted: Counted) => number) => all.reduce((so, each) => so + of(each), 0);
  return { opened: sum(({ opened }) => opened), live: sum(({ live }) => live), pending: sum(({ pending }) => pending) };
}

/** Waits until all replicas are live. @throws Error after so many seconds. */
async function untilAllLive(devices: readonly ChildProcess[], patience: number): Promise<void> {
  let told = performance.now();
  for (const began = told; ; ) {
    const { live, pending } = await countAll(devices);
    if (live >= options.replicas) return;
    const now = performance.now();
    if (now - began > patience * 1_000)
      throw new Error(`After ${patience} s ${live} of ${options.replicas} replicas are live.`);
    if (now - told > 10_000) {
      told = now;
      say(`  ${live} of ${options.replicas} replicas are live, ${pending} transactions wait`);
    }
    await pause(100);
  }
}

/** Restarts all server processes, one after the other. */
function restarted(servers: ChildProcess): Promise<void> {
  return new Promise((done) => {
    servers.once('message', () => done());
    servers.send('restart');
  });
}

async function measurePart(
  { postgres, servers, devices }: Whole,
  part: string,
  disturb: (() => Promise<void>) | undefined,
): Promise<Part> {
  await Promise.all(devices.map((child) => ask(child, { ask: 'figures' })));
  const used = () => ({
    database: { process: postgres.process(), seconds: processorSeconds(postgres.process()) ?? 0 },
    servers: secondsOf([servers]),
    devices: secondsOf(devices),
  });
  const before = used();
  const began = performance.now();
  await disturb?.();
  const disturbed = performance.now();
  if (disturb) await untilAllLive(devices, 600);
  const liveAgain = disturb ? round((performance.now() - disturbed) / 1_000) : null;
  await pause(Math.max(0, options.seconds * 1_000 - (performance.now() - began)));
  const after = used();
  const seconds = (performance.now() - began) / 1_000;
  const all = await Promise.all(devices.map((child) => ask(child, { ask: 'figures' })));
  const shown = all.flatMap((each) => each.shown).sort((a, b) => a - b);
  const at = (share: number) => round(shown[Math.min(shown.length - 1, Math.floor(shown.length * share))] ?? 0);
  const perSecond = (of: (each: (typeof all)[number]) => number) =>
    round(all.reduce((sum, each) => sum + of(each), 0) / seconds);
  return {
    part,
    seconds: round(seconds),
    editsPerSecond: perSecond(({ edits }) => edits),
    deliveriesPerSecond: perSecond(({ delivered }) => delivered),
    shown: { half: at(0.5), most95: at(0.95), most99: at(0.99), most: at(1) },
    processors: {
      servers: round((after.servers - before.servers) / seconds),
      database:
        after.database.process === before.database.process
          ? round((after.database.seconds - before.database.seconds) / seconds)
          : null,
      devices: round((after.devices - before.devices) / seconds),
    },
    liveAgain,
  };
}

/** The end of a run: edits that are not in the database, adds that are there twice, and replicas that hold something else. */
interface Verdict {
  readonly edits: number;
  readonly lost: number;
  readonly doubled: number;
  readonly refused: number;
  readonly different: number;
  readonly settled: number;
}

/** Waits until everything is sent and shown, and compares what people did, the database, and each replica. */
async function compareAll({ postgres, devices }: Whole): Promise<Verdict> {
  const began = performance.now();
  while ((await countAll(devices)).pending > 0 && performance.now() - began < 300_000) await pause(100);
  await untilAllLive(devices, 300);
  const client = new pg.Client(postgres.url);
  await client.connect();
  const { rows: hives } = await client.query<{ id: string; apiary: string; frames: number }>(
    'SELECT id, apiary, frames::int AS frames FROM hive',
  );
  const { rows: notes } = await client.query<{ id: string; apiary: string; edit: number }>(
    'SELECT id, apiary, edit::int AS edit FROM note',
  );
  await client.end();
  let [lost, doubled, refused, edits] = [0, 0, 0, 0];
  const noteEdits = new Map(notes.map(({ id, edit }) => [id, edit]));
  const added = new Map<string, number>();
  for (const child of devices) {
    const ledger = await ask(child, { ask: 'ledger' });
    refused += ledger.refused;
    for (const [id, edit] of ledger.notes) if (noteEdits.get(id) !== edit) lost++;
    for (const [id, frames] of ledger.frames) added.set(id, (added.get(id) ?? 0) + frames);
    edits += ledger.edits;
  }
  for (const { id, frames } of hives) {
    const difference = frames - (added.get(id) ?? 0);
    if (difference < 0) lost -= difference;
    else doubled += difference;
  }
  const [hivesOf, notesOf] = [byApiary(hives), byApiary(notes)];
  const states = Array.from({ length: apiaryCount }, (_, n) => {
    const name = apiaryName(n);
    return [n, stateOf(hivesOf.get(name) ?? [], notesOf.get(name) ?? [])] as const;
  });
  let compared = await compareReplicas(devices, states);
  // The last windows may be on their way.
  for (let times = 0; compared.different > 0 && times < 30; times++) {
    await pause(1_000);
    compared = await compareReplicas(devices, states);
  }
  const { different, example } = compared;
  if (example !== undefined) say(example);
  return { edits, lost, doubled, refused, different, settled: round((performance.now() - began) / 1_000) };
}

async function compareReplicas(
  devices: readonly ChildProcess[],
  states: readonly (readonly [apiary: number, state: string])[],
): Promise<Compared> {
  const all: Compared[] = [];
  for (const child of devices) all.push(await ask(child, { ask: 'compare', states }));
  return {
    different: all.reduce((sum, { different }) => sum + different, 0),
    example: all.find(({ example }) => example !== undefined)?.example,
  };
}

function byApiary<R extends { readonly apiary: string }>(rows: readonly R[]): ReadonlyMap<string, readonly R[]> {
  const found = new Map<string, R[]>();
  for (const row of rows) {
    const known = found.get(row.apiary);
    if (known === undefined) found.set(row.apiary, [row]);
    else known.push(row);
  }
  return found;
}

/** The figures beside those of the parts. Megabytes of one replica, and of one connection on the servers. */
interface Ends {
  readonly opened: number;
  readonly memory: { readonly replica: number; readonly connection: number };
  readonly verdict: Verdict;
}

function print(parts: readonly Part[], { opened, memory, verdict }: Ends): void {
  const { replicas, apiary, servers } = options;
  const perThousand = ({ processors: { servers, database }, deliveriesPerSecond }: Part) =>
    round(((servers + (database ?? 0)) / deliveriesPerSecond) * 1_000);
  if (options.json) {
    console.log(JSON.stringify({ options, opened: round(opened), memory, parts, verdict }, null, 2));
    return;
  }
  const table = new Table({
    head: [
      'part',
      'edits/s',
      'rows/s',
      'half',
      '95 %',
      '99 %',
      'all',
      'servers',
      'database',
      'devices',
      's/1000',
      'live again',
    ],
    colAligns: ['left', ...Array.from({ length: 11 }, () => 'right' as const)],
    style: { head: ['bold'], compact: true },
  });
  for (const part of parts) {
    const { shown, processors } = part;
    table.push([
      ...[part.part, part.editsPerSecond, part.deliveriesPerSecond],
      ...[shown.half, shown.most95, shown.most99, shown.most],
      ...[processors.servers, processors.database ?? '-', processors.devices, perThousand(part)],
      part.liveAgain === null ? '-' : `${part.liveAgain} s`,
    ]);
  }
  console.log(table.toString());
  console.log(
    [
      'rows/s: rows that replicas were sent. half, 95 %, 99 %, all: milliseconds within which an edit is shown on another replica.',
      'servers, database, devices: processors that were busy. s/1000: seconds of processor time of servers and database for 1,000 rows sent.',
      'live again: from the end of the restart until every replica is live.',
      '',
      `${replicas} replicas, ${apiary} to an apiary, on ${servers} server processes: all live after ${Math.round(opened)} s.`,
      `A replica takes ${Math.round(memory.replica * 1_000)} kB of its process, and its connection ${Math.round(memory.connection * 1_000)} kB of a server's.`,
      `${verdict.edits} edits: ${verdict.lost} lost, ${verdict.doubled} twice, ${verdict.refused} refused. ${verdict.different} replicas differ from the database.`,
    ].join('\n'),
  );
}

async function close(): Promise<void> {
  await Promise.all(children.splice(0).map(end));
  await postgres?.stop();
  postgres = undefined;
}

function round(figure: number): number {
  return Number(figure.toPrecision(3));
}

function whole(text: string): number {
  const number = Number(text);
  if (!Number.isInteger(number) || number < 1) throw new InvalidArgumentError('It is a whole number of 1 or more.');
  return number;
}

function rates(text: string): readonly number[] {
  return text.split(',').map(whole);
}

process.once('SIGINT', () => void close().then(() => process.exit(130)));
try {
  await run();
} finally {
  await close();
}
