import type { Replica, Upload } from '@koinon/client';
import { KoinonError } from '@koinon/core';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { type Shell, type StoreKind, storeKinds } from '../support/stores.ts';
import { BadNetwork, type Garden, garden, rowsOf, World } from '../support/world.ts';

// Three devices and the office work at random over a network that loses and repeats; in the end all must agree.

type Step =
  | { readonly do: 'label' | 'height' | 'kind'; readonly who: number; readonly row: number; readonly value: number }
  | {
      readonly do: 'water' | 'tag' | 'insert' | 'remove';
      readonly who: number;
      readonly row: number;
      readonly value: number;
    }
  | { readonly do: 'office'; readonly row: number; readonly value: number }
  | {
      readonly do: 'sync';
      readonly who: number;
      readonly fates: readonly ('lost request' | 'lost reply' | 'sent twice')[];
    }
  | { readonly do: 'reopen'; readonly who: number };

const who = fc.nat(2);
const row = fc.nat(3);
const value = fc.nat(5);
const fates = fc
  .array(fc.constantFrom('lost request', 'lost reply', 'sent twice', 'passes'), { maxLength: 3 })
  .map((given) => given.filter((fate) => fate !== 'passes'));
const edit = fc.record({
  do: fc.constantFrom('label', 'height', 'kind', 'water', 'water', 'tag', 'insert'),
  who,
  row,
  value,
});
const removal = fc.record({ do: fc.constant('remove'), who, row, value });
const office = fc.record({ do: fc.constant('office'), row, value });
const sync = fc.record({ do: fc.constant('sync'), who, fates });
const reopen = fc.record({ do: fc.constant('reopen'), who });
const steps = (...kinds: fc.Arbitrary<unknown>[]) =>
  fc.array(fc.oneof(...kinds), { minLength: 4, maxLength: 24 }) as fc.Arbitrary<Step[]>;

interface Device {
  replica: Replica<Garden>;
  readonly network: BadNetwork;
  readonly file: string;
  readonly upload: Upload;
  readonly requestBytes: number;
}

class Simulation {
  readonly devices: Device[] = [];
  readonly watered = [0, 0, 0, 0];
  private readonly world: World;
  readonly shell: Shell;
  private inserted = 0;

  constructor(world: World, shell: Shell) {
    this.world = world;
    this.shell = shell;
  }

  static async run(
    kind: StoreKind,
    history: readonly Step[],
    check: (simulation: Simulation) => Promise<void>,
  ): Promise<void> {
    const world = await World.of(garden, kind);
    try {
      const simulation = new Simulation(world, await world.shell());
      await simulation.shell.exec("INSERT INTO bed VALUES ('b', 'bed', true)");
      for (let n = 0; n < 4; n++)
        await simulation.shell.exec(`INSERT INTO plant VALUES ('p${n}', 'b', 'herb', 'start', 0, 0, '[]')`);
      for (let n = 0; n < 3; n++) {
        const network = new BadNetwork(world.server.url);
        // With small requests, one is made ready while another is under way, and transactions go up in parts.
        const upload = n === 2 ? 'latest state' : 'every step';
        const device = { network, file: `device-${n}.db`, upload, requestBytes: n === 1 ? 524_288 : 400 } as const;
        simulation.devices.push({ ...device, replica: await world.replica({ ...device, server: network }) });
        await simulation.devices[n]?.replica.sync();
      }
      for (const step of history) await simulation.take(step);
      for (let round = 0; round < 2; round++) for (const { replica } of simulation.devices) await replica.sync();
      for (const { replica } of simulation.devices) await replica.sync();
      await check(simulation);
    } finally {
      await world.end();
    }
  }

  private async take(step: Step): Promise<void> {
    if (step.do === 'office') {
      await this.shell.exec(
        `UPDATE bed SET name = 'bed ${step.value}'; UPDATE plant SET tags = '["office"]' WHERE id = 'p${step.row}' AND CAST(tags AS text) = '[]'`,
      );
      return;
    }
    const device = this.devices[step.who] as Device;
    if (step.do === 'sync') {
      device.network.fates.push(...step.fates);
      await device.replica.sync().catch(() => undefined);
      device.network.fates.length = 0;
    } else if (step.do === 'reopen') {
      await device.replica.close();
      device.replica = await this.world.replica({ ...device, server: device.network });
    } else await this.edit(device.replica, step);
  }

  private async edit(
    replica: Replica<Garden>,
    { do: what, who, row, value }: Extract<Step, { row: number; who: number }>,
  ): Promise<void> {
    const id = `p${row}`;
    // Rows that others deleted are gone here too: nothing to edit then.
    if (what !== 'insert' && (await replica.get('plant', id)) === undefined) return;
    if (what === 'label') await replica.update('plant', id, { label: `by ${who}: ${value}` });
    else if (what === 'height') await replica.update('plant', id, { height: 10 * who + value });
    else if (what === 'kind') await replica.update('plant', id, { kind: value % 2 ? 'tree' : 'flower' });
    else if (what === 'water') {
      await replica.add('plant', id, 'watered', value);
      this.watered[row] = (this.watered[row] as number) + value;
    } else if (what === 'tag') await replica.include('plant', id, 'tags', `tag ${value}`);
    else if (what === 'insert')
      await replica.insert('plant', { id: `new-${who}-${this.inserted++}`, bed: 'b', kind: 'herb' });
    else await replica.delete('plant', id);
  }
}

test.each(storeKinds)(
  '%s: edits of different columns, counters and sets: all devices and the server end equal, nothing doubled',
  (kind) =>
    fc.assert(
      fc.asyncProperty(steps(edit, edit, office, sync, sync, reopen), async (history) => {
        // Each device edits a column of its own, so that no rule is needed; counters, sets and inserts are free for all.
        const own = ['label', 'height', 'kind'];
        const disjoint = history.map((step) =>
          'row' in step && 'who' in step && own.includes(step.do) ? ({ ...step, do: own[step.who] } as Step) : step,
        );
        await Simulation.run(kind, disjoint, async ({ devices, shell, watered }) => {
          const onServer = await rowsOf(shell);
          for (const { replica } of devices) {
            expect(await replica.status()).toMatchObject({ pending: 0, conflicted: 0, rejected: 0 });
            expect(await rowsOf(replica)).toEqual(onServer);
          }
          expect([0, 1, 2, 3].map((n) => (onServer[`plant p${n}`] as { watered: number }).watered)).toEqual(watered);
        });
      }),
      runs(25),
    ),
);

test.each(storeKinds)(
  '%s: edits and deletes of anything: what is not on the server is in conflict or refused, and all else is equal',
  (kind) =>
    fc.assert(
      fc.asyncProperty(steps(edit, edit, removal, office, sync, sync, reopen), (history) =>
        Simulation.run(kind, history, async ({ devices, shell }) => {
          const onServer = await rowsOf(shell);
          for (const { replica } of devices) {
            const queued = new Set(
              (await replica.outbox()).flatMap(({ changes }) => changes.map(({ table, id }) => `${table} ${id}`)),
            );
            const { conflicted, rejected, pending } = await replica.status();
            if (pending > 0) expect(conflicted + rejected).toBeGreaterThan(0);
            const held = await rowsOf(replica);
            for (const key of new Set([...Object.keys(held), ...Object.keys(onServer)]))
              if (!queued.has(key)) expect(held[key], key).toEqual(onServer[key]);
          }
        }),
      ),
      runs(25),
    ),
);

test('two syncs at once: one is told to wait, and nothing is doubled', () =>
  Simulation.run('SQLite', [], async ({ devices, shell }) => {
    const { replica } = devices[0] as Device;
    await replica.add('plant', 'p0', 'watered', 3);
    const results = await Promise.allSettled([replica.sync(), replica.sync()]);
    expect(results.filter(({ status }) => status === 'fulfilled')).toHaveLength(1);
    expect(results.find((result) => result.status === 'rejected')?.reason).toMatchObject({
      code: 'sync-busy',
      name: KoinonError.name,
    });
    expect(await rowsOf(shell)).toMatchObject({ 'plant p0': { watered: 3 } });
  }));
