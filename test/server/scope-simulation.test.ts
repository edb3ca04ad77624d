import { readFile } from 'node:fs/promises';
import type { Replica, Transport } from '@koinon/client';
import { KoinonError } from '@koinon/core';
import { postgresStore, type RunningServer, startServer } from '@koinon/server';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { type Commons, commons, commonsServer, commonsWorld, replicaOf, wayOf, wayTo } from '../support/commons.ts';
import { runs } from '../support/runs.ts';
import { type Pair, standbyPair } from '../support/standby.ts';
import { type Database, databaseOf, type Shell, type StoreKind, storeKinds } from '../support/stores.ts';

// Users join and leave plots while they and the office edit, offline and live; in the end each replica holds the server's
// rows of its scope, and nothing else stands in its file.

const people = ['mika', 'tove', 'ines'] as const;
const plots = ['p0', 'p1', 'p2'] as const;
const crops = Array.from({ length: 5 }, (_, n) => `crop-${n}`);

type Step =
  | { readonly do: 'join' | 'quit'; readonly who: number; readonly plot: number }
  | {
      readonly do: 'move' | 'office edits' | 'office removes' | 'office makes';
      readonly crop: number;
      readonly plot: number;
    }
  | {
      readonly do: 'edit' | 'remove' | 'make' | 'move here';
      readonly who: number;
      readonly crop: number;
      readonly plot: number;
    }
  | { readonly do: 'open' | 'sync' | 'pull one page' | 'push'; readonly who: number; readonly plot: number }
  | { readonly replay: 'pause' | 'resume' };

const who = fc.nat(people.length - 1);
const plot = fc.nat(plots.length - 1);
const crop = fc.nat(crops.length - 1);
const step = fc.oneof(
  fc.record({ do: fc.constantFrom('join', 'quit', 'quit'), who, plot }),
  fc.record({ do: fc.constantFrom('move', 'move', 'office edits', 'office removes', 'office makes'), crop, plot }),
  fc.record({ do: fc.constantFrom('edit', 'edit', 'remove', 'make', 'move here'), who, crop, plot }),
  fc.record({ do: fc.constantFrom('open', 'sync', 'sync', 'pull one page', 'pull one page', 'push'), who, plot }),
) as fc.Arbitrary<Step>;
const replay = fc.constantFrom('pause' as const, 'resume' as const).map((replay): Step => ({ replay }));

interface Device {
  readonly person: string;
  readonly replica: Replica<Commons>;
  /** Pages that the next sync may bring, a row each; then the signal goes. */
  pages: number | undefined;
}

let made = 0;

async function take(step: Step, devices: readonly Device[], shell: Shell, pair?: Pair): Promise<void> {
  if ('replay' in step) return pair?.[step.replay]();
  const words = `words-${++made}.`;
  if ('crop' in step) {
    const id = crops[step.crop] as string;
    const to = plots[step.plot] as string;
    if (step.do === 'move') await shell.exec(`UPDATE crop SET plot = '${to}' WHERE id = '${id}'`);
    else if (step.do === 'office edits')
      await shell.exec(`UPDATE crop SET label = '${words} ' || plot WHERE id = '${id}'`);
    else if (step.do === 'office removes') await shell.exec(`DELETE FROM crop WHERE id = '${id}'`);
    else if (step.do === 'office makes')
      await shell.exec(
        `INSERT INTO crop (id, plot, label, picked) VALUES ('${id}', '${to}', '${words}', 0) ON CONFLICT DO NOTHING`,
      );
    else if ('who' in step) {
      const { replica } = devices[step.who] as Device;
      // What the device itself refuses (a plot that is not there, say) is not done.
      await edit(replica, step, id, to, words).catch((error) => {
        if (!(error instanceof KoinonError)) throw error;
      });
    }
    return;
  }
  const { who, plot } = step;
  const device = devices[who] as Device;
  const key = `t-${people[who]}-${plots[plot]}`;
  if (step.do === 'join')
    await shell.exec(
      `INSERT INTO tenancy (id, plot, person) VALUES ('${key}', '${plots[plot]}', '${people[who]}') ON CONFLICT DO NOTHING`,
    );
  else if (step.do === 'quit') await shell.exec(`DELETE FROM tenancy WHERE id = '${key}'`);
  else if (step.do === 'open') await shell.exec(`UPDATE plot SET open = NOT open WHERE id = '${plots[plot]}'`);
  else {
    device.pages = step.do === 'pull one page' ? 1 : undefined;
    let isWhole = step.do === 'sync';
    await device.replica.sync(step.do === 'push' ? { direction: 'push' } : {}).catch((error: Error) => {
      if (!error.message.includes('the signal went')) throw error;
      isWhole = false;
    });
    device.pages = undefined;
    if (isWhole) await holdsItsPart(device, shell);
  }
}

/** After a sync nobody has plots that he is no tenant of and that were not open when he was told of them. */
async function holdsItsPart({ person, replica }: Device, shell: Shell): Promise<void> {
  const tenancies = await shell.all<{ plot: string }>(`SELECT plot FROM tenancy WHERE person = '${person}'`);
  const mine = new Set(tenancies.map(({ plot }) => plot));
  const others = (await replica.rows({ from: 'plot' })).filter(({ id, open }) => !open && !mine.has(id));
  expect(others, `${person} has plots of others`).toEqual([]);
  const held = new Set((await replica.rows({ from: 'plot' })).map(({ id }) => id));
  expect(
    [...mine].filter((id) => !held.has(id)),
    `${person} lacks plots`,
  ).toEqual([]);
}

async function edit(
  replica: Replica<Commons>,
  { do: what }: Exclude<Step, { readonly replay: unknown }>,
  id: string,
  plot: string,
  words: string,
): Promise<void> {
  if (what === 'make') await replica.insert('crop', { id: `new-${made}`, plot, label: words });
  else if (what === 'edit') await replica.update('crop', id, { label: words });
  else if (what === 'move here') await replica.update('crop', id, { plot });
  else await replica.delete('crop', id);
}

/** @param routes which pulls are asked of a server that does not read the standby. @returns how many pulls were answered from a standby. */
async function survives(
  kind: StoreKind,
  history: readonly Step[],
  pair?: Pair,
  routes: readonly boolean[] = [false],
): Promise<number> {
  let fromStandby = 0;
  let plain: RunningServer | undefined;
  const world = await commonsWorld(pair === undefined ? kind : await databaseOf(pair), {
    observe: (moved) => {
      if (moved.what === 'pull' && moved.from === 'standby') fromStandby++;
    },
  });
  try {
    const shell = await world.shell();
    plain = pair && (await withoutStandby(world.database));
    let pulls = 0;
    for (const id of plots)
      await shell.exec(`INSERT INTO plot (id, name, open) VALUES ('${id}', 'named ${id}', false)`);
    for (const [n, id] of crops.entries())
      await shell.exec(
        `INSERT INTO crop (id, plot, label, picked) VALUES ('${id}', '${plots[n % 3]}', 'begun-${n}.', 0)`,
      );
    for (const [n, person] of people.entries())
      await shell.exec(`INSERT INTO tenancy (id, plot, person) VALUES ('t-${person}-p${n}', 'p${n}', '${person}')`);
    const devices: Device[] = [];
    for (const person of people) {
      const ways = [world.server.url, plain?.url ?? world.server.url].map((url) => wayTo(url, person));
      const device: { -readonly [K in keyof Device]: Device[K] } = {
        person,
        pages: undefined,
        replica: undefined as never,
      };
      // Each page may be asked of another process: one that reads the standby, or one that does not.
      const pull: Transport['pull'] = (request, signal) =>
        (ways[routes[pulls++ % routes.length] ? 1 : 0] as Transport).pull(request, signal);
      device.replica = await replicaOf(world, person, {
        server: wayOf(world, person, {
          pull: async (request, signal) => {
            // A scope that changes in the middle of a download is gone on with in pages, too.
            if (device.pages === undefined) return pull({ ...request, limit: 2 }, signal);
            if (device.pages-- === 0) throw new Error('the signal went');
            return pull({ ...request, limit: 1 }, signal);
          },
        }),
      });
      devices.push(device);
    }
    for (const each of history) await take(each, devices, shell, pair);
    await pair?.resume();
    await pair?.caughtUp();
    for (let round = 0; round < 4; round++) for (const { replica } of devices) await replica.sync();
    // Whatever is still open is a question to a person, or a refusal: taken back, the device is what the server says.
    for (const { replica } of devices) {
      for (const { rows } of await replica.rejections())
        for (const { table, id } of rows) await replica.revert(table as 'crop', id);
      for (const { table, id } of await replica.conflicts()) await replica.revert(table as 'crop', id);
    }
    for (let round = 0; round < 2; round++) for (const { replica } of devices) await replica.sync();
    const all = await shell.all<{ id: string; plot: string; label: string | null }>('SELECT id, plot, label FROM crop');
    const open = new Set((await shell.all<{ id: string }>('SELECT id FROM plot WHERE open')).map(({ id }) => id));
    const known = new Set(all.flatMap(({ label }) => label ?? []));
    for (const { person, replica } of devices) {
      const mine = new Set(
        (await shell.all<{ plot: string }>(`SELECT plot FROM tenancy WHERE person = '${person}'`)).map(
          ({ plot }) => plot,
        ),
      );
      const expected = all.filter(({ plot }) => mine.has(plot)).sort((a, b) => (a.id < b.id ? -1 : 1));
      const held = await replica.rows({ from: 'crop', columns: ['id', 'plot', 'label'], order: ['id'] });
      expect(
        held.map((row) => ({ ...row })),
        person,
      ).toEqual(expected);
      const plotsHeld = (await replica.rows({ from: 'plot', order: ['id'] })).map(({ id }) => id);
      expect(plotsHeld, person).toEqual(plots.filter((id) => mine.has(id) || open.has(id)));
      expect(await replica.status()).toMatchObject({ pending: 0, rejected: 0, conflicted: 0 });
      // In the log as well, before it is folded into the file.
      const parts = await Promise.all(['', '-wal'].map((end) => readFile(world.path(`${person}.db${end}`))));
      const file = Buffer.concat(parts).toString('latin1');
      await replica.close();
      for (const { plot, label } of all)
        if (label !== null && known.has(label) && !mine.has(plot)) expect(file.includes(`${label}`), label).toBe(false);
      for (const id of plots) if (!plotsHeld.includes(id)) expect(file.includes(`named ${id}`), id).toBe(false);
    }
    return fromStandby;
  } finally {
    await plain?.close();
    await world.end();
  }
}

/** A second process on the same database. */
async function withoutStandby({ address }: Database): Promise<RunningServer> {
  return startServer<Commons>({ ...commonsServer, store: await postgresStore(commons, address), port: 0 });
}

/** Left, one page of that taken in, and joined again: what the page erased has to come back. */
const leftAndBack: Step[] = [
  { do: 'sync', who: 0, plot: 0 },
  { do: 'quit', who: 0, plot: 0 },
  { do: 'pull one page', who: 0, plot: 0 },
  { do: 'join', who: 0, plot: 0 },
];

test.each(storeKinds)(
  '%s: whoever joins and leaves, each replica ends as the server’s rows in its scope, and its file holds nothing else',
  async (kind) => {
    await fc.assert(
      fc.asyncProperty(fc.array(step, { minLength: 6, maxLength: 30 }), async (history) => {
        await survives(kind, history);
      }),
      { ...runs(6), examples: [[leftAndBack]] },
    );
  },
  600_000,
);

test('the same holds where pulls are read from a standby whose replay is broken off and goes on', async () => {
  const pair = await standbyPair();
  let fromStandby = 0;
  try {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.oneof({ arbitrary: step, weight: 6 }, { arbitrary: replay, weight: 1 }), {
          minLength: 6,
          maxLength: 30,
        }),
        fc.array(fc.boolean(), { minLength: 1, maxLength: 7 }),
        async (history, routes) => {
          fromStandby += await survives('PostgreSQL', history, pair, routes);
        },
      ),
      { ...runs(6), examples: [[leftAndBack, [false]]] },
    );
  } finally {
    await pair.end();
  }
  expect(fromStandby).toBeGreaterThan(0);
}, 600_000);
