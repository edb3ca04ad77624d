import { bytes, file, schema, table, text } from '@koinon/core';

/** Visits with photos, for tests that run several processes. */
export default schema({
  visit: table({ notes: text(), photo: file({ optional: true }), sketch: bytes({ optional: true }) }),
});
