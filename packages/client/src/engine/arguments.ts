import { KoinonError } from '@koinon/core';
import { messageOf, shown } from '@koinon/core/internal';
import type { Decision } from '../overlay/decision.ts';
import type { StepName } from './steps.ts';

// The arguments of an app are looked at and copied before anything is done with them: a mistake in the app is told as that,
// and what the app does with its objects afterwards changes nothing here.

/** Levels that are looked into: more than any value may have, whose own check tells which one has too many. */
const deepest = 70;

/** An argument that cannot be taken. @param expected what it is to be, such as `a text`. */
export function argumentInvalid(name: string, value: unknown, expected: string, cause?: unknown): KoinonError {
  return new KoinonError('argument-invalid', `${name} must be ${expected}, not ${shown(value)}.`, {
    value,
    ...(cause === undefined ? {} : { cause }),
  });
}

/** Reads and copies an argument, which may be an object of any kind. @throws KoinonError `argument-invalid`. */
type Take = (name: string, value: unknown) => unknown;

const isObject = (value: unknown): value is object => typeof value === 'object' && value !== null;

/** A copy of plain objects and lists; bytes, Blobs and all other objects are what they are. */
function copied(value: unknown, depth = 0): unknown {
  if (!isObject(value) || ArrayBuffer.isView(value)) return value;
  if (depth > deepest) throw new Error(`it is nested more than ${deepest} levels deep, or holds itself`);
  if (Array.isArray(value)) return value.map((member) => copied(member, depth + 1));
  const prototype = Object.getPrototypeOf(value);
  return prototype === Object.prototype || prototype === null ? copiedMembers(value, depth) : value;
}

function copiedMembers(value: object, depth: number): Record<string, unknown> {
  const copy: Record<string, unknown> = { ...value };
  for (const name in copy) {
    const member = copy[name];
    if (isObject(member)) copy[name] = copied(member, depth + 1);
  }
  return copy;
}

/** Reads an argument, which may run the app's code, a getter say: it is not to break anything here. */
function reading<T>(name: string, value: unknown, read: () => T): T {
  try {
    return read();
  } catch (error) {
    throw unreadable(name, value, error);
  }
}

function unreadable(name: string, value: unknown, error: unknown): unknown {
  if (error instanceof KoinonError) return error;
  return new KoinonError('argument-invalid', `${name} cannot be read: ${messageOf(error)}`, {
    value,
    cause: error,
  });
}

/** Anything: what it means is checked where it is used. */
export const anything: Take = (name, value) => (isObject(value) ? reading(name, value, () => copied(value)) : value);

/** A text. */
export function text(name: string, value: unknown): string {
  if (typeof value !== 'string') throw argumentInvalid(name, value, 'a text');
  return value;
}

/** An object of members: a row, a query. */
export function object(name: string, value: unknown): Readonly<Record<string, unknown>> {
  if (!isObject(value)) throw argumentInvalid(name, value, 'an object');
  // Written out: this runs for each row that is written.
  try {
    if (!Array.isArray(value)) return copiedMembers(value, 0);
  } catch (error) {
    throw unreadable(name, value, error);
  }
  throw argumentInvalid(name, value, 'an object');
}

/** A list of objects: of rows, say. */
export function objects(name: string, value: unknown): readonly Readonly<Record<string, unknown>>[] {
  if (!Array.isArray(value)) throw argumentInvalid(name, value, 'a list of objects');
  return reading(name, value, () => Array.from(value, (member, n) => object(`${name}[${n}]`, member)));
}

/** A whole number that is not negative. */
export function wholeNumber(name: string, value: unknown): number {
  if (!Number.isSafeInteger(value) || (value as number) < 0)
    throw argumentInvalid(name, value, 'a whole number that is not negative');
  return value as number;
}

/** A function. */
export function callback(name: string, value: unknown): void {
  if (typeof value !== 'function') throw argumentInvalid(name, value, 'a function');
}

/** One of some words. */
export function word<const W extends string>(name: string, value: unknown, words: readonly W[]): W {
  const known = words.find((each) => each === value);
  if (known === undefined)
    throw argumentInvalid(
      name,
      value,
      words.length === 1 ? `'${words[0]}'` : `one of ${words.map((each) => `'${each}'`).join(', ')}`,
    );
  return known;
}

/** Options by name; undefined where none are given. @throws KoinonError `argument-invalid` also for a name that is none of these. */
export function options<Name extends string>(
  name: string,
  value: unknown,
  names: readonly Name[],
): { readonly [N in Name]?: unknown } {
  if (value === undefined) return {};
  if (!isObject(value)) throw argumentInvalid(name, value, 'an object of options');
  return reading(name, value, () => {
    const given = { ...value } as { readonly [N in Name]?: unknown };
    for (const each of Object.keys(given))
      if (!(names as readonly string[]).includes(each))
        throw new KoinonError('argument-invalid', `${name} has no option ${shown(each)}; it has ${names.join(', ')}.`, {
          value: each,
        });
    return given;
  });
}

/** A template of SQL. */
const template: Take = (name, value) => {
  const given = isObject(value) ? reading(name, value, () => ({ ...value }) as Readonly<Record<string, unknown>>) : {};
  if (typeof given.text !== 'string' || !Array.isArray(given.values))
    throw argumentInvalid(name, value, 'SQL that the function sql has made');
  return given;
};

const patch: Take = object;
const [table, id, row, query] = [
  ['table', text],
  ['id', text],
  ['row', object],
  ['query', object],
] as const satisfies readonly (readonly [string, Take])[];

const takingBack: Take = (name, value) => {
  const { transactions, dependent } = options(name, value, ['transactions', 'dependent']);
  return {
    transactions: transactions && word('transactions', transactions, ['whole', 'these rows only']),
    dependent: dependent && word('dependent', dependent, ['take back']),
  };
};

const rowKeys: Take = (name, value) =>
  objects(name, value).map((row, n) => ({
    table: text(`${name}[${n}].table`, row.table),
    id: text(`${name}[${n}].id`, row.id),
  }));

const decisions: Take = (name, value) =>
  objects(name, value).map((row, n) => ({
    table: text(`${name}[${n}].table`, row.table),
    id: text(`${name}[${n}].id`, row.id),
    choices: row.choices,
  }));

/** The arguments of every step and decision that an app calls by itself. */
const parameters: Readonly<Partial<Record<StepName | Decision, readonly (readonly [string, Take])[]>>> = {
  get: [table, id],
  rows: [query],
  count: [query],
  summary: [['summary', object]],
  select: [['query', template]],
  rowState: [table, id],
  setting: [['name', text]],
  insert: [table, row],
  insertAll: [table, ['rows', objects]],
  update: [table, id, ['patch', patch]],
  updateWhere: [table, ['where', anything], ['patch', patch]],
  upsert: [table, row],
  upsertAll: [table, ['rows', objects]],
  operate: [table, id, ['column', text], ['operation', object]],
  delete: [table, id],
  deleteWhere: [table, ['where', anything]],
  setSetting: [
    ['name', text],
    ['value', anything],
  ],
  invoke: [
    ['name', text],
    ['input', object],
  ],
  beginPrediction: [
    ['name', text],
    ['input', object],
  ],
  resolve: [['decisions', decisions]],
  unresolve: [table, id],
  revert: [
    ['rows', rowKeys],
    ['how', takingBack],
  ],
  amend: [
    ['invoked', object],
    ['input', object],
  ],
  resend: [['transaction', text]],
  discard: [
    ['transaction', text],
    ['how', takingBack],
  ],
};

/** The arguments of a step or decision, looked at and copied. @throws KoinonError `argument-invalid`, naming the argument. */
export function argumentsOf(name: StepName | Decision, given: readonly unknown[]): readonly unknown[] {
  const expected = parameters[name];
  if (expected === undefined) return given;
  const taken: unknown[] = [];
  for (let n = 0; n < expected.length; n++) {
    const [each, take] = expected[n] as readonly [string, Take];
    taken.push(take(each, given[n]));
  }
  return taken;
}
