import {
  action,
  bytes,
  counter,
  date,
  integer,
  json,
  real,
  reference,
  schema,
  setOfText,
  table,
  text,
  timestamp,
} from '@koinon/core';

/** A schema with every column type and kind of rule, and the places its replica can run in. */
export const household = schema(
  {
    room: table({ name: text({ unique: true, minimumLength: 1, maximumLength: 8 }) }),
    'my shelf': table({ room: reference('room', { optional: true }), order: integer({ default: () => 7 }) }),
    thing: table(
      {
        shelf: reference('my shelf', { optional: true }),
        name: text(),
        worth: real({ minimum: 0, maximum: 1000, optional: true }),
        bought: date({ optional: true }),
        seen: timestamp({ optional: true }),
        label: json({ optional: true }),
        picture: bytes({ optional: true, maximumLength: 10 }),
        used: counter({ minimum: 0 }),
        tags: setOfText(),
        inventory: integer({ assigned: true }),
      },
      {
        unique: [['shelf', 'name']],
        check: ({ bought, seen }) =>
          bought !== null && seen !== null && String(seen) < String(bought)
            ? [{ column: 'seen', message: 'is before it was bought' }]
            : undefined,
      },
    ),
    cache: table({ value: text() }, { home: 'device' }),
  },
  {
    settings: { units: text({ default: 'metric' }), last: text({ optional: true }) },
    actions: { lend: action({ input: { thing: reference('thing'), to: text() }, result: { until: date() } }) },
  },
);
export type Household = typeof household;
