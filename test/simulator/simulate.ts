import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { postgresStore, sqliteStore } from '@koinon/server';
import { folder } from './disk.ts';
import { type Ground, SqliteGround } from './ground.ts';
import { type History, makeHistory } from './history.ts';
import { inProcess } from './parts.ts';
import { PostgresGround } from './postgres-ground.ts';
import { realParts } from './real-parts.ts';
import { answerRequests, asked } from './requests.ts';
import { Simulation } from './simulation.ts';

const { values } = parseArgs({
  options: {
    histories: { type: 'string', default: '1000' },
    seed: { type: 'string' },
    from: { type: 'string' },
    minutes: { type: 'string' },
    shrink: { type: 'boolean', default: false },
    first: { type: 'boolean', default: false },
    processes: { type: 'boolean', default: false },
    postgres: { type: 'string' },
    requests: { type: 'string' },
  },
});

if (values.requests !== undefined) {
  const seed = Number(values.seed ?? values.from ?? Date.now() % 1_000_000_000);
  const store = values.postgres
    ? await postgresStore(asked, values.postgres)
    : await sqliteStore(asked, join(folder, 'requests.db'));
  const { failures, statuses, kinds, slowest, memory, requests } = await answerRequests(
    store,
    seed,
    Number(values.requests),
    (done, wrong) => done % 10_000 === 0 && console.error(`${done} requests, ${wrong} failed`),
  );
  for (const failure of failures) console.log(failure);
  console.log(`seed ${seed}: ${requests} requests, ${failures.length} failed`);
  console.log(
    `answers by status: ${[...statuses]
      .sort(([a], [b]) => a - b)
      .map(([status, n]) => `${status}: ${n}`)
      .join(', ')}`,
  );
  console.log(`live messages by type: ${[...kinds].map(([type, n]) => `${type}: ${n}`).join(', ')}`);
  console.log(`slowest answer ${Math.round(slowest)} ms; ${Math.round(memory / 1e6)} MB in use at the end`);
  process.exit(failures.length > 0 ? 1 : 0);
}

let ground: Ground | undefined;

async function failureOf(history: History): Promise<{ error: Error; log: readonly string[] } | undefined> {
  if (ground === undefined || ground.used++ > 300) {
    await ground?.end();
    ground = values.postgres ? await PostgresGround.make(values.postgres) : await SqliteGround.make(values.processes);
  }
  const simulation = new Simulation(history, ground, values.processes ? realParts : inProcess);
  try {
    await simulation.run();
    return undefined;
  } catch (error) {
    // What a failed history leaves behind must not be the next one's.
    await ground.end().catch(() => undefined);
    ground = undefined;
    return { error: error as Error, log: simulation.log };
  }
}

/** The least that still fails: steps are left out as long as it does. */
async function shrunk(history: History): Promise<History> {
  let best = history;
  for (let size = Math.ceil(best.steps.length / 2); size >= 1; size = size === 1 ? 0 : Math.ceil(size / 2))
    for (let from = 0; from < best.steps.length; ) {
      const steps = [...best.steps.slice(0, from), ...best.steps.slice(from + size)];
      if (steps.length < best.steps.length && (await failureOf({ ...best, steps }))) best = { ...best, steps };
      else from += size;
    }
  return best;
}

process.on('unhandledRejection', () => undefined);
const first = Number(values.seed ?? values.from ?? Date.now() % 1_000_000_000);
const count = values.seed === undefined ? Number(values.histories) : 1;
const end = values.minutes === undefined ? Number.POSITIVE_INFINITY : Date.now() + Number(values.minutes) * 60_000;
const failed: number[] = [];
const began = Date.now();
let done = 0;
for (; done < count && Date.now() < end; done++) {
  const history = makeHistory(first + done);
  const failure = await failureOf(history);
  if (failure) {
    failed.push(history.seed);
    console.log(`seed ${history.seed} failed: ${failure.error.message.split('\n')[0]}`);
    if (values.seed !== undefined || values.shrink) {
      const least = await shrunk(history);
      const again = await failureOf(least);
      console.log(`  steps ${least.steps.map((step) => history.steps.indexOf(step)).join()}`);
      console.log(
        `  ${least.devices.map(({ isJoining, isAutomatic }, n) => `device ${n}: ${isJoining ? 'latest state' : 'every step'}${isAutomatic ? ', automatic' : ''}`).join('; ')}`,
      );
      for (const line of (again ?? failure).log) console.log(`  ${line}`);
      console.log(`  ${(again ?? failure).error.message}`);
    }
    if (values.first || failed.length >= 20) {
      done++;
      break;
    }
  }
  if (done % 500 === 499) {
    const rate = Math.round((done + 1) / ((Date.now() - began) / 1000));
    console.error(`${done + 1} histories, ${failed.length} failed, ${rate} a second`);
  }
}
await ground?.end();
const where = `${values.processes ? ' --processes' : ''}${values.postgres ? ` --postgres ${values.postgres}` : ''}`;
for (const seed of failed) console.log(`replay: npm run simulate -- --seed ${seed}${where}`);
console.log(`${done - failed.length} passed, ${failed.length} failed`);
process.exit(failed.length > 0 ? 1 : 0);
