import { counter, integer, reference, schema, table, text } from '@koinon/core';
import type { Scopes } from '@koinon/server';

// The data of the load: apiaries that a few people tend together. Each gets the rows of his own apiary and no others.

export const apiaries = schema({
  hive: table({ apiary: text({ filterable: true }), mark: text(), frames: counter() }),
  note: table({
    apiary: text({ filterable: true }),
    hive: reference('hive'),
    text: text(),
    /** The number of the edit that its author made last. */
    edit: integer(),
    /** The time of that edit, in microseconds of the machine's clock. */
    editedAt: integer(),
  }),
});
export type Apiaries = typeof apiaries;

/** A token is the number of a replica; its user tends one apiary. */
export const scopes: Scopes<Apiaries> = {
  hive: { read: (user) => ({ apiary: user?.id ?? '' }) },
  note: { read: (user) => ({ apiary: user?.id ?? '' }) },
};

/** The rows of an apiary before anybody edits. */
export const hivesEach = 5;
export const notesEach = 20;

export const apiaryName = (n: number) => `apiary-${n}`;
export const hiveId = (apiary: number, n: number) => `hive-${apiary}-${n}`;

/** The state of an apiary as one text, by which replicas and the database are compared. */
export function stateOf(
  hives: readonly { readonly id: string; readonly frames: number }[],
  notes: readonly { readonly id: string; readonly edit: number }[],
): string {
  return [...hives.map(({ id, frames }) => `${id}=${frames}`), ...notes.map(({ id, edit }) => `${id}=${edit}`)]
    .sort()
    .join(' ');
}

/** Microseconds of the machine's clock, which all its processes share. */
export const microseconds = () => Number(process.hrtime.bigint() / 1_000n);
