import { spawn } from 'node:child_process';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { expect, test } from 'vitest';
import { garden, World } from '../support/world.ts';

test('kill -9 right after an acknowledged write loses nothing and leaves nothing by halves', async () => {
  const world = await World.inTest(garden);
  for (const [round, writes] of [1, 2, 9, 60].entries()) {
    const file = `killed-${round}.db`;
    const acknowledged = await writeAndKill(world.path(file), writes);
    const replica = await world.replica({ file });
    const beds = new Set((await replica.rows({ from: 'bed' })).map(({ id }) => id));
    const plants = new Set((await replica.rows({ from: 'plant' })).map(({ id }) => id));
    for (let n = 0; n <= acknowledged; n++) expect(beds).toContain(`bed-${n}`);
    for (const id of beds) if (Number(id.slice(4)) % 3 === 2) expect(plants).toContain(`plant-${id.slice(4)}`);
    // The outbox tells the same story: every row there is queued, and nothing else is.
    const queued = (await replica.outbox()).flatMap(({ changes }) => changes.map(({ id }) => id));
    expect(queued.sort()).toEqual([...beds, ...plants].sort());
    await replica.close();
  }
});

/** Starts a process that writes, kills it as soon as it acknowledged so many writes; says the last one it told of. */
function writeAndKill(file: string, writes: number): Promise<number> {
  const script = join(import.meta.dirname, '../support/writer-child.ts');
  const child = spawn(process.execPath, ['--import', 'tsx', '--conditions=koinon-source', script, file], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  let last = -1;
  return new Promise((done, fail) => {
    createInterface({ input: child.stdout }).on('line', (line) => {
      last = Number(line);
      if (last + 1 >= writes) child.kill('SIGKILL');
    });
    child.on('error', fail);
    child.on('close', (_code, signal) =>
      signal === 'SIGKILL' ? done(last) : fail(new Error(`the writer ended by itself after ${last + 1} writes`)),
    );
  });
}
