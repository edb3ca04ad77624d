import { isDeepStrictEqual } from 'node:util';
import { type ChangeEvent, httpTransport, openReplica, type Replica, systemHost, type Transport } from '@koinon/client';
import type { LiveMessage } from '@koinon/core';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { runs } from '../support/runs.ts';
import { type StoreKind, storeKinds } from '../support/stores.ts';
import { type Garden, garden, rowsOf, World } from '../support/world.ts';

// Devices that are live work at random with the office, while their connections break, their networks go and come, and
// replies are lost. By themselves, nobody calling for a sync, all must end with the same rows, and each listener have
// been told of every change once.

type Step =
  | { readonly do: 'edit' | 'water' | 'office' | 'reopen'; readonly who: number; readonly row: number }
  | { readonly do: 'cut' | 'lose' | 'offline' | 'rest'; readonly who: number; readonly row: number };

const step = fc.record({
  do: fc.constantFrom('edit', 'edit', 'water', 'water', 'office', 'office', 'cut', 'lose', 'offline', 'rest', 'reopen'),
  who: fc.nat(2),
  row: fc.nat(2),
}) as fc.Arbitrary<Step>;

/** A device whose network can be cut, lost and switched off. */
class Device {
  replica!: Replica<Garden>;
  /** The rows as its listener has them, by nothing but the events. */
  readonly told = new Map<string, number>();
  /** Events that did not begin where the one before had ended. */
  readonly gaps: string[] = [];
  private isOnline = true;
  private loses = 0;
  private readonly channels = new Set<{ close(): void; lost(): void }>();
  private readonly changed = new Set<() => void>();
  private readonly world: World;
  private readonly file: string;

  constructor(world: World, name: string) {
    this.world = world;
    this.file = world.path(`${name}.db`);
  }

  async open(): Promise<void> {
    this.replica = await openReplica({
      schema: garden,
      file: this.file,
      server: this.transport(),
      sync: { minDelay: 20, maxDelay: 100, debounce: 5 },
      host: {
        ...systemHost,
        isOnline: () => this.isOnline,
        onChange: (listener) => {
          this.changed.add(listener);
          return () => this.changed.delete(listener);
        },
      },
    });
    for (const { id, watered } of await this.replica.rows({ from: 'plant' })) this.told.set(id, watered);
    this.replica.listen('plant', (events) => {
      for (const event of events) this.hear(event as ChangeEvent<{ watered: number }>);
    });
  }

  async take(step: Step): Promise<void> {
    const id = `p${step.row}`;
    if (step.do === 'edit')
      await this.replica.update('plant', id, {
        [['label', 'height', 'kind'][step.who] as 'label']: valueFor(step.who) as string,
      });
    else if (step.do === 'water') await this.replica.add('plant', id, 'watered', 1);
    else if (step.do === 'lose') this.loses++;
    else if (step.do === 'cut') this.cut();
    else if (step.do === 'offline') {
      this.isOnline = !this.isOnline;
      for (const listener of this.changed) listener();
    } else if (step.do === 'reopen') {
      await this.replica.close();
      this.told.clear();
      await this.open();
    } else await new Promise((done) => setTimeout(done, 30));
  }

  /** The network is there for good from now on. */
  settle(): void {
    this.loses = 0;
    this.isOnline = true;
    for (const listener of this.changed) listener();
  }

  private hear({ id, before, after }: ChangeEvent<{ watered: number }>): void {
    if ((before?.watered ?? undefined) !== this.told.get(id))
      this.gaps.push(`${id}: ${this.told.get(id)} became ${before?.watered} unheard`);
    if (after) this.told.set(id, after.watered);
    else this.told.delete(id);
  }

  private cut(): void {
    for (const channel of [...this.channels]) {
      channel.close();
      channel.lost();
    }
  }

  private transport(): Transport {
    const good = httpTransport(this.world.server.url);
    const through = async <T>(call: () => Promise<T>): Promise<T> => {
      if (!this.isOnline) throw new Error('there is no network');
      const answer = await call();
      if (this.loses > 0) {
        this.loses--;
        throw new Error('the reply was lost');
      }
      return answer;
    };
    return {
      pull: (request, signal) => through(() => good.pull(request, signal)),
      push: (body, signal) => through(() => good.push(body, signal)),
      live: (listener) => {
        const message = (said: LiveMessage) => {
          if (said.type !== 'pushed' || this.loses-- <= 0) listener.message(said);
          else this.cut();
        };
        const channel = (good.live as NonNullable<Transport['live']>)({ ...listener, message });
        const known = { close: () => channel.close(), lost: () => listener.closed() };
        this.channels.add(known);
        return {
          say: (request) => channel.say(request),
          push: (number, body) => channel.push?.(number, body),
          close: () => {
            this.channels.delete(known);
            channel.close();
          },
        };
      },
    };
  }
}

let values = 0;
const valueFor = (who: number) =>
  who === 0 ? `label ${++values}` : who === 1 ? ++values : values++ % 2 ? 'tree' : 'herb';

test.each(storeKinds)(
  '%s: live devices over broken networks end equal by themselves, and hear of every change once',
  (kind: StoreKind) =>
    fc.assert(
      fc.asyncProperty(fc.array(step, { minLength: 5, maxLength: 40 }), async (history) => {
        const world = await World.of(garden, kind);
        const shell = await world.shell();
        await shell.exec("INSERT INTO bed VALUES ('b', 'bed', true)");
        for (let n = 0; n < 3; n++)
          await shell.exec(`INSERT INTO plant VALUES ('p${n}', 'b', 'flower', 'start', 0, 0, '[]')`);
        const devices = ['one', 'two', 'three'].map((name) => new Device(world, name));
        try {
          for (const device of devices) {
            await device.open();
            await expect.poll(() => device.replica.count({ from: 'plant' })).toBe(3);
          }
          const watered = [0, 0, 0];
          for (const each of history) {
            if (each.do === 'water') watered[each.row] = (watered[each.row] as number) + 1;
            if (each.do === 'office')
              await shell.exec(`UPDATE plant SET watered = watered + 1 WHERE id = 'p${each.row}'`);
            else await devices[each.who]?.take(each);
            if (each.do === 'office') watered[each.row] = (watered[each.row] as number) + 1;
          }
          for (const device of devices) device.settle();
          for (const device of devices)
            await expect
              .poll(
                async () => [
                  (await device.replica.rows({ from: 'plant', order: 'id' })).map((row) => row.watered),
                  (await device.replica.outbox()).length,
                  isDeepStrictEqual(await rowsOf(device.replica), await rowsOf(shell)),
                ],
                { interval: 20 },
              )
              .toEqual([watered, 0, true]);
          for (const { gaps, told, replica } of devices) {
            expect(gaps).toEqual([]);
            expect([...told].sort()).toEqual(
              (await replica.rows({ from: 'plant', order: 'id' })).map((row) => [row.id, row.watered]),
            );
            expect(await replica.status()).toMatchObject({ conflicted: 0, rejected: 0 });
          }
        } finally {
          for (const { replica } of devices) await replica?.close();
          await world.end();
        }
      }),
      { ...runs(6), endOnFailure: true },
    ),
);
