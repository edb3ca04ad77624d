import { bytes, schema, table } from '@koinon/core';
import { visits } from '../visits.ts';

/** Visits, with a photo where there is one. */
export const photos = schema({
  visit: visits.tables.visit,
  photo: table({ image: bytes() }),
});
