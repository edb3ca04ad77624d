import { boolean, bytes, counter, integer, oneOf, reference, schema, setOfText, table, text } from '@koinon/core';

/** The schema of the recordings; it never changes. */
export const recorded = schema({
  bed: table({ name: text({ unique: true }), sunny: boolean({ default: true }) }),
  plant: table({
    bed: reference('bed'),
    kind: oneOf(['herb', 'flower', 'tree']),
    label: text({ optional: true, merge: 'ask' }),
    height: integer({ optional: true, minimum: 0 }),
    picture: bytes({ optional: true }),
    watered: counter(),
    tags: setOfText(),
  }),
});

/** One step of a recorded exchange: a request with its answer, or SQL of another program. */
export type Step =
  | { readonly path: string; readonly body: string | null; readonly status: number; readonly answer: string }
  | { readonly sql: string };

/** The options of a replica that syncs by hand. */
export const byHand = {
  when: { open: false, change: false, online: false, visible: false, timer: false },
  live: false,
};
