import type { NewRow, TableName } from '@koinon/core';
import seedrandom from 'seedrandom';
import { plantRows } from './plants.ts';
import type { cooperative } from './schema.ts';

type Cooperative = typeof cooperative;
type Rows<T extends TableName<Cooperative>> = Required<NewRow<Cooperative, T>>[];

/** The demo's rows, table by table, parents before children. */
export type DemoRows = { readonly [T in TableName<Cooperative>]: Rows<T> };

const siteNames = [
  'Marrowfen',
  'Tolver Down',
  'Hask Common',
  'Ellerbank',
  'Quill Moss',
  'Sallow Reach',
  'Orrin’s Lea',
  'Thrapple Hill',
  'Wend Hollow',
  'Carrick Mire',
  'Nettlecroft',
  'Upper Dunnow',
  'Brackwater',
  'Fennimore Edge',
  'Loam Cross',
  'Pellin Wood',
  'Stoke Averil',
  'Gannet Fold',
  'Isbourne Gate',
  'Yarrow End',
];
const people = [
  ['Runa Vesterholt', 'Dunnow'],
  ['Teodor Malk', 'Averil'],
  ['Ilse Karrow', 'Dunnow'],
  ['Bram Otterley', 'Loam'],
  ['Sunniva Pell', 'Averil'],
  ['Jorun Askby', 'Isbourne'],
  ['Matis Corvane', 'Loam'],
  ['Odile Fenwright', 'Isbourne'],
] as const;
const remarks = [
  'calm',
  'queen cells cut',
  'super added',
  'feed given',
  'wasps about',
  'moved two frames',
  'entrance narrowed',
];

const toolNames = ['smoker', 'hive tool', 'bee brush', 'spare frames'];

/** Days over which the visits are spread. */
const seasonDays = 200;

/** When the season ends if nobody says. */
const usualEnd = new Date(Date.UTC(2026, 8, 17));

/**
 * Some 20 sites, 200 hives and 2,000 visits; the same rows for the same seed and end, on every machine.
 *
 * @param end when the last visits were.
 */
export function demoRows(end: Date = usualEnd, seed = 'koinon'): DemoRows {
  const random = seedrandom(seed);
  const whole = (below: number) => Math.floor(random() * below);
  const pick = <T>(from: readonly T[]): T => from[whole(from.length)] as T;
  const number = (prefix: string, n: number, width: number) => `${prefix}-${String(n + 1).padStart(width, '0')}`;

  const member = people.map(([name, village], i) => ({ id: number('member', i, 2), name, village }));
  const site = siteNames.map((name, i) => ({
    id: number('site', i, 2),
    name,
    forage: pick(['heather', 'lime', 'clover', 'orchard', 'moor'] as const),
    latitude: Math.round((54 + random() * 2) * 1e4) / 1e4,
    longitude: Math.round((-3 + random() * 2) * 1e4) / 1e4,
    keeper: pick(member).id,
    open: random() < 0.9,
  }));
  const hive = Array.from({ length: 200 }, (_, i) => ({
    id: number('hive', i, 3),
    site: pick(site).id,
    mark: `${String.fromCharCode(65 + (i % 26))}${100 + i}`,
    strength: 3 + whole(7),
    queen: pick(['marked', 'marked', 'unmarked', 'missing'] as const),
    notes: random() < 0.2 ? pick(remarks) : null,
  }));
  const season = end.getTime() - seasonDays * 86_400_000;
  const visit = Array.from({ length: 2_000 }, (_, i) => ({
    id: number('visit', i, 4),
    hive: pick(hive).id,
    member: pick(member).id,
    at: byDay(season, whole(seasonDays * 24 * 60), end),
    queenSeen: random() < 0.7,
    brood: pick(['none', 'patchy', 'even', 'even'] as const),
    mites: whole(random() < 0.1 ? 20 : 4),
    weight: random() < 0.8 ? Math.round((18 + random() * 30) * 10) / 10 : null,
    notes: random() < 0.3 ? pick(remarks) : null,
  }));
  const harvest = Array.from({ length: 120 }, (_, i) => ({
    id: number('harvest', i, 3),
    hive: pick(hive).id,
    day: new Date(season + (100 + whole(60)) * 86_400_000).toISOString().slice(0, 10),
    frames: 1 + whole(9),
  }));
  const tool = member.flatMap((owner, i) =>
    toolNames.slice(0, 2 + (i % 3)).map((name, n) => ({
      id: `tool-${i + 1}-${n + 1}`,
      member: owner.id,
      name,
      count: 1 + whole(3),
    })),
  );
  // The story's people take the photos themselves, and ask for the moves.
  return { member, site, hive, visit, photo: [], harvest, tool, movement: [], plant: plantRows() };
}

/** A moment of a season by its minute, at an hour at which people are out: from seven to seven. None is after the end. */
function byDay(season: number, minute: number, end: Date): string {
  const day = 86_400_000;
  const morning = new Date(season + Math.floor(minute / 1_440) * day).setUTCHours(7, 0, 0, 0);
  const at = morning + Math.floor((minute % 1_440) / 2) * 60_000;
  return new Date(at > end.getTime() ? at - day : at).toISOString();
}
