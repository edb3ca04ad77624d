import type { Migrations } from '@koinon/client';
import { counter, integer, json, reference, schema, setOfText, table, text } from '@koinon/core';
import type { Scopes } from '@koinon/server';

/** How many lines of a note and members of a card there are: one for each device that there may be. */
export const mostDevices = 4;

/** The bee-keepers' register, as far as the histories need it. */
export const register = schema({
  /** Users, and the hives that each may not see. Only the server reads it. */
  keeper: table({ hides: setOfText() }),
  site: table({ name: text({ unique: true, merge: 'ask' }) }),
  hive: table({
    site: reference('site'),
    title: text({ merge: 'ask', default: '' }),
    notes: text({ default: Array.from({ length: mostDevices }, (_, n) => `line ${n}\n-`).join('\n') }),
    card: json({ optional: true }),
    mass: integer({ merge: 'newest', default: 0 }),
    // Each device has a column that nobody else writes.
    own0: text({ merge: 'ask', default: '' }),
    own1: text({ merge: 'ask', default: '' }),
    own2: text({ merge: 'ask', default: '' }),
    own3: text({ merge: 'ask', default: '' }),
    rank: integer({ optional: true, unique: true, merge: 'ask' }),
    frames: counter(),
    /** The sum of what its visits say. */
    total: counter(),
    marks: setOfText(),
  }),
  visit: table(
    { hive: reference('hive', { filterable: true }), amount: integer(), words: text({ default: '', merge: 'ask' }) },
    { deletion: 'ask' },
  ),
  tool: table({ name: text({ merge: 'ask' }), used: counter() }, { deletion: 'deletion wins' }),
});

export type Register = typeof register;

/** A user gets the hives that are not hidden from him, and their visits. */
export const hiding: Scopes<Register> = {
  keeper: 'none',
  site: 'all',
  hive: {
    async read(user, { rows }) {
      const [keeper] = await rows('keeper', { id: user?.id ?? '' });
      return keeper === undefined || keeper.hides.length === 0 ? 'all' : { not: { id: { in: keeper.hides } } };
    },
  },
  visit: { with: 'hive' },
  tool: 'all',
};
export const newerHiding = { ...hiding, basket: { with: 'hive' } } as Scopes<Register>;

/** The next version: a column has another name, one is new, and so is a table. */
const { mass, ...kept } = register.tables.hive.columns;
export const newerRegister = schema(
  {
    ...register.tables,
    hive: table({ ...kept, load: mass, colour: text({ merge: 'ask', default: 'none' }) }),
    basket: table({ hive: reference('hive', { filterable: true }), of: text({ default: '' }) }),
  },
  { version: 2 },
);

/** How a device's file comes to the next version. */
export const migrations: Migrations = { 2: (migration) => migration.renameColumn('hive', 'mass', 'load') };

/** The same on the server, for the office. */
export const renaming = 'ALTER TABLE hive RENAME COLUMN mass TO load';

/** The schema that an app of this version has. */
export const schemaOf = (version: 1 | 2): Register =>
  version === 1 ? register : (newerRegister as unknown as Register);

/** The server takes less than the apps: what an older app writes is refused there. */
const strictVisit = table(
  {
    hive: reference('hive', { filterable: true }),
    amount: integer(),
    words: text({ default: '', merge: 'ask', maximumLength: 12 }),
  },
  { deletion: 'ask' },
);
export const strict = schema({ ...register.tables, visit: strictVisit });
export const newerStrict = schema({ ...newerRegister.tables, visit: strictVisit }, { version: 2 });
