import { bytes, counter, integer, reference, schema, table, text } from '@koinon/core';

/** What the tests with tabs keep. */
export const orchard = schema({
  row: table({ name: text({ unique: true }) }),
  photo: table({ image: bytes() }),
  tree: table({
    row: reference('row', { optional: true }),
    kind: text(),
    age: integer({ optional: true }),
    picked: counter(),
  }),
});
