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
import type { StoreKind } from './stores.ts';
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
export const commonsScopes: Scopes<Commons> = {
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
};

/** A server that knows its users by what stands in the place of a token: their names. */
export function commonsWorld(kind: StoreKind, options: Partial<ServerOptions<Commons>> = {}): Promise<World<Commons>> {
  return World.of(commons, kind, {
    authenticate: (token) => ({ id: token, claims: {} }),
    scopes: commonsScopes,
    ...options,
  });
}

/** The way of a user to a server, with what a test makes of it. */
export function wayOf(world: World<Commons>, person: string, change: Partial<Transport> = {}): Transport {
  return { ...httpTransport(world.server.url, { token: () => person }), ...change };
}

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
