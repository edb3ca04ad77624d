import { bytes, counter, integer, reference, schema, table, text } from '@koinon/core';

/** The schema of the tests with tabs. */
const tables = {
  row: table({ name: text({ unique: true }) }),
  photo: table({ image: bytes() }),
  tree: table({
    row: reference('row', { optional: true }),
    kind: text({ default: 'seedling' }),
    age: integer({ optional: true }),
    picked: counter(),
  }),
};
export const orchard = schema(tables);

/** The same in the next version of the app. */
export const newerOrchard = schema({ ...tables, basket: table({ name: text() }) }, { version: 2 });
