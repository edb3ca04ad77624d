import type { Migrations } from '@koinon/client';
import { action, counter, integer, json, reference, schema, setOfText, table, text } from '@koinon/core';
import type { Handlers, Scopes } from '@koinon/server';

/** How many lines of a note and members of a card there are: one for each device that there may be. */
export const mostDevices = 4;

/** The notes of a hive without any: a line for each device. */
export const newNotes = Array.from({ length: mostDevices }, (_, n) => `line ${n}\n-`).join('\n');

/** An inspection by the office: its visit, and the amount in the hive's sum, are made by the server. */
const inspect = action({
  input: { hive: reference('hive'), visit: text(), amount: integer(), words: text(), title: text() },
  result: { sum: integer() },
});

/** The tables of the bee-keepers' register, as far as the histories need it. */
const tables = {
  /** Users, and the hives that each may not see. Only the server reads it. */
  keeper: table({ hides: setOfText() }),
  site: table({ name: text({ unique: true, merge: 'ask' }) }),
  hive: table({
    site: reference('site'),
    title: text({ merge: 'ask', default: '' }),
    notes: text({ default: newNotes }),
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
    /** The sum of what its inspections say. */
    inspected: counter(),
    marks: setOfText(),
  }),
  visit: table(
    { hive: reference('hive', { filterable: true }), amount: integer(), words: text({ default: '', merge: 'ask' }) },
    { deletion: 'ask' },
  ),
  tool: table({ name: text({ merge: 'ask' }), used: counter() }, { deletion: 'deletion wins' }),
  /** The server keeps it, and devices ask. */
  plant: table({ name: text(), month: integer() }, { home: 'server' }),
  /** A service of others fills it on each device. */
  weather: table({ version: integer(), degrees: integer() }, { home: 'device' }),
};
export const register = schema(tables, { actions: { inspect } });

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
  plant: 'all',
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
  { version: 2, actions: { inspect } },
);

/** The tables of which a device has all rows that asks for its hives at run time. */
export const always = (version: 1 | 2) => ({
  tables: ['site', 'visit', 'tool', ...(version === 2 ? ['basket'] : [])] as ('site' | 'visit' | 'tool')[],
});

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
export const strict = schema({ ...register.tables, visit: strictVisit }, { actions: { inspect } });
export const newerStrict = schema(
  { ...newerRegister.tables, visit: strictVisit },
  { version: 2, actions: { inspect } },
);

/** The office's part of an inspection. Some titles come out otherwise than was expected. */
export const handlers: Handlers<Register> = {
  async inspect({ hive, visit, amount, words, title }, { get, update, insert, refuse }) {
    if (words.length > 12) refuse([{ input: 'words', message: 'That is more than the office takes.' }]);
    const sum = ((await get('hive', hive))?.inspected ?? 0) + amount;
    await update('hive', hive, {
      inspected: sum,
      ...(title !== '' && { title: title.replace(/0$/, ' by the office') }),
    });
    await insert('visit', { id: visit, hive, amount, words });
    return { sum };
  },
};
