import { readFile } from 'node:fs/promises';
import {
  type Host,
  httpTransport,
  openReplica,
  type Replica,
  type ReplicaOptions,
  type Transport,
} from '@koinon/client';
import { boolean, counter, integer, reference, schema, table, text } from '@koinon/core';
import type { Scopes, ServerOptions } from '@koinon/server';
import type { Database, StoreKind } from './stores.ts';
import { World } from './world.ts';

/** A schema of which users get different parts. */
export const commons = schema({
  plot: table({ name: text(), open: boolean({ default: false, filterable: true }) }),
  tenancy: table({ plot: reference('plot', { filterable: true }), person: text({ filterable: true }) }),
  crop: table({
    plot: reference('plot', { filterable: true }),
    label: text({ optional: true }),
    height: integer({ optional: true }),
    picked: counter(),
    price: integer({ optional: true }),
  }),
  note: table({ person: text({ filterable: true }), words: text() }),
});

export type Commons = typeof commons;

/** The office sees everything; others the plots they are tenants of, and open ones; crops there; their own notes; no prices. */
export const commonsScopes = {
  plot: {
    read: async (user, context) => {
      if (user?.id === 'office') return 'all';
      const mine = await context.rows('tenancy', { person: user?.id ?? '' });
      return { or: [{ id: { in: mine.map(({ plot }) => plot) } }, { open: true }] };
    },
    write: ({ kind, before, after }, { user }) =>
      user?.id === 'office' || kind === 'update' || (before ?? after)?.name === 'free for all'
        ? undefined
        : [{ message: 'Only the office makes and removes plots.' }],
  },
  tenancy: { read: (user) => (user?.id === 'office' ? 'all' : { person: user?.id ?? '' }) },
  crop: {
    read: async (user, context) => {
      if (user?.id === 'office') return 'all';
      const mine = await context.rows('tenancy', { person: user?.id ?? '' });
      return { plot: { in: mine.map(({ plot }) => plot) } };
    },
    withhold: (user) => (user?.id === 'office' ? [] : ['price']),
  },
  note: { read: (user) => ({ person: user?.id ?? '' }) },
} satisfies Scopes<Commons>;

/** Users are known by what stands in the place of a token: their names. All devices of a test ask from one address. */
export const commonsServer = {
  authenticate: (token: string) => ({ id: token, claims: {} }),
  scopes: commonsScopes,
  requestsPerMinute: 1_000_000,
};

/** A server on a database of its own. */
export function commonsWorld(
  kind: StoreKind | Database,
  options: Partial<ServerOptions<Commons>> = {},
): Promise<World<Commons>> {
  return World.of(commons, kind, { ...commonsServer, ...options });
}

/** The way of a user to a server, with what a test makes of it. */
export function wayOf(world: World<Commons>, person: string, change: Partial<Transport> = {}): Transport {
  return { ...wayTo(world.server.url, person), ...change };
}

/** The way of a user to the server at an address. */
export const wayTo = (url: string, person: string): Transport => httpTransport(url, { token: () => person });

/** A replica of a user. */
export function replicaOf(
  world: World<Commons>,
  person: string,
  options: Partial<ReplicaOptions<Commons>> & { readonly host?: Host } = {},
): Promise<Replica<Commons>> {
  return world.closed(
    openReplica({ schema: commons, file: world.path(`${person}.db`), server: wayOf(world, person), ...options }),
  );
}

/** A world of plots and crops: the office, and two who are tenants of one plot each; all have what is theirs. */
export class Plots {
  readonly world: World<Commons>;
  readonly office: Replica<Commons>;
  readonly mika: Replica<Commons>;
  readonly tove: Replica<Commons>;

  private constructor(
    world: World<Commons>,
    [office, mika, tove]: readonly [Replica<Commons>, Replica<Commons>, Replica<Commons>],
  ) {
    this.world = world;
    this.office = office;
    this.mika = mika;
    this.tove = tove;
  }

  static async of(kind: StoreKind): Promise<Plots> {
    const world = await commonsWorld(kind);
    const office = await replicaOf(world, 'office');
    const mika = await replicaOf(world, 'mika');
    const tove = await replicaOf(world, 'tove');
    for (const name of ['north', 'south', 'pond'])
      await office.insert('plot', { id: name, name, open: name === 'pond' });
    await office.insert('tenancy', { id: 'mn', plot: 'north', person: 'mika' });
    await office.insert('tenancy', { id: 'ts', plot: 'south', person: 'tove' });
    for (const [id, plot] of [
      ['leek', 'north'],
      ['kale', 'north'],
      ['bean', 'south'],
    ] as const)
      await office.insert('crop', { id, plot, label: `secret of ${plot}`, height: 1, price: 99 });
    for (const replica of [office, mika, tove]) await replica.sync();
    return new Plots(world, [office, mika, tove]);
  }

  /** Tells whether a person's file holds some words anywhere. */
  async inFile(person: string, words: string): Promise<boolean> {
    const parts = ['', '-wal'].map((end) =>
      readFile(this.world.path(`${person}.db${end}`)).catch(() => Buffer.from('')),
    );
    return (await Promise.all(parts)).some((bytes) => bytes.includes(words));
  }
}

/** The ids of what a replica holds of a table. */
export const idsOf = async (replica: Replica<Commons>, table: 'plot' | 'crop' | 'note' | 'tenancy') =>
  (await replica.rows({ from: table, order: ['id'] })).map(({ id }) => id);
