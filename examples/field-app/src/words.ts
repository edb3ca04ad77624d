/** The names of the stored values on screen. */
export const queens = { marked: 'Queen marked', unmarked: 'Queen unmarked', missing: 'No queen' } as const;
export const broods = { none: 'No brood', patchy: 'Patchy brood', even: 'Even brood' } as const;
export const forages = {
  heather: 'Heather',
  lime: 'Lime',
  clover: 'Clover',
  orchard: 'Orchard',
  moor: 'Moor',
} as const;

export const places = {
  hedge: 'Hedges and woods',
  garden: 'Gardens',
  orchard: 'Orchards',
  moor: 'Moor and heath',
  meadow: 'Meadows and fields',
} as const;

/** The choices of a select, from such a list. */
export const choices = (words: Readonly<Record<string, string>>) =>
  Object.entries(words).map(([value, label]) => ({ value, label }));

const month = new Intl.DateTimeFormat(undefined, { month: 'long', timeZone: 'UTC' });

/** A month by its number from 1. */
export const shownMonth = (number: number) => month.format(new Date(Date.UTC(2026, number - 1, 15)));

const day = new Intl.DateTimeFormat(undefined, { dateStyle: 'medium' });
const moment = new Intl.DateTimeFormat(undefined, { dateStyle: 'medium', timeStyle: 'short' });

export const shownDay = (date: string) => day.format(new Date(`${date}T12:00:00`));
const time = new Intl.DateTimeFormat(undefined, { timeStyle: 'medium' });

export const shownTime = (timestamp: string) => time.format(new Date(timestamp));
export const shownMoment = (timestamp: string) => moment.format(new Date(timestamp));

/** Mites on the board after a day that call for action. */
export const manyMites = 8;

/** One thing, or several. */
export const counted = (n: number, one: string, many = `${one}s`) => `${n.toLocaleString()} ${n === 1 ? one : many}`;

/** A size for people. */
export const shownBytes = (bytes: number) =>
  bytes < 1e6
    ? `${Math.ceil(bytes / 1e3)} kB`
    : bytes < 1e9
      ? `${(bytes / 1e6).toFixed(1)} MB`
      : `${(bytes / 1e9).toFixed(1)} GB`;
