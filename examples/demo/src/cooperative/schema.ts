import {
  action,
  boolean,
  counter,
  date,
  file,
  integer,
  oneOf,
  real,
  reference,
  schema,
  table,
  text,
  timestamp,
} from '@koinon/core';

/**
 * The bee-keeping cooperative. Members look after hives at remote sites without signal, record visits and
 * count harvested frames; the office keeps the register of sites, and moves hives.
 */
const tables = {
  member: table({ name: text(), village: text() }, { label: 'member', namedBy: 'name' }),
  site: table(
    {
      name: text({ unique: true, label: 'the name of the site' }),
      forage: oneOf(['heather', 'lime', 'clover', 'orchard', 'moor']),
      latitude: real({ minimum: -90, maximum: 90 }),
      longitude: real({ minimum: -180, maximum: 180 }),
      // The member who looks after it, and who by that gets its hives.
      keeper: reference('member', { filterable: true }),
      open: boolean({ default: true }),
    },
    // One that was entered without a signal is the one that the register has.
    { naturalKey: ['name'], label: 'site', namedBy: 'name' },
  ),
  hive: table(
    {
      site: reference('site', { filterable: true, label: 'the site' }),
      mark: text({ maximumLength: 12, label: 'the mark' }),
      strength: integer({ minimum: 0, maximum: 10, label: 'the strength' }),
      // The last look knows best.
      queen: oneOf(['marked', 'unmarked', 'missing'], { merge: 'newest', label: 'the queen' }),
      notes: text({ optional: true }),
    },
    { label: 'hive', namedBy: 'mark' },
  ),
  visit: table(
    {
      hive: reference('hive', { filterable: true, label: 'the hive' }),
      member: reference('member', { label: 'the member' }),
      at: timestamp({ index: true, label: 'the time of the visit' }),
      queenSeen: boolean(),
      brood: oneOf(['none', 'patchy', 'even'], { label: 'the brood' }),
      mites: integer({ minimum: 0, label: 'the number of mites' }),
      weight: real({ optional: true, minimum: 0, label: 'the weight' }),
      notes: text({ optional: true }),
    },
    { label: 'visit' },
  ),
  // A visit may have several. The small one is on every phone that has the visit; the large one comes when somebody opens it.
  photo: table(
    {
      visit: reference('visit', { filterable: true, label: 'the visit' }),
      at: timestamp(),
      picture: file({ types: ['image/*'], maximumBytes: 20_000_000, label: 'the picture' }),
      preview: file({ types: ['image/jpeg'], maximumBytes: 100_000 }),
    },
    { label: 'photo' },
  ),
  harvest: table({ hive: reference('hive', { filterable: true }), day: date(), frames: counter({ minimum: 0 }) }),
  // Each member's own.
  tool: table({
    member: reference('member', { filterable: true }),
    name: text({ maximumLength: 40 }),
    count: integer({ minimum: 0, default: 1 }),
  }),
  // What bees fly to. Nobody needs it on the phone: it is looked up while there is a signal.
  plant: table(
    {
      name: text({ unique: true }),
      // The first and the last month in bloom.
      blooms: integer({ minimum: 1, maximum: 12 }),
      until: integer({ minimum: 1, maximum: 12 }),
      nectar: integer({ minimum: 0, maximum: 4 }),
      pollen: integer({ minimum: 0, maximum: 4 }),
      grows: oneOf(['hedge', 'garden', 'orchard', 'moor', 'meadow']),
    },
    { home: 'server', label: 'plant', namedBy: 'name' },
  ),
  // Only the office writes it: a move has a number.
  movement: table(
    {
      hive: reference('hive', { filterable: true }),
      from: reference('site'),
      to: reference('site'),
      at: timestamp(),
      number: integer(),
    },
    { readOnly: true, label: 'move' },
  ),
};

export const cooperative = schema(tables, {
  actions: {
    moveHive: action({
      input: {
        hive: reference('hive'),
        to: reference('site', { label: 'the site' }),
        // The id of the movement, so that the phone can show it before the office has made it.
        movement: text(),
      },
      result: { number: integer() },
      label: 'Move a hive',
    }),
  },
});
