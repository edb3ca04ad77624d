import * as v from 'valibot';
import { KoinonError, shown } from '../errors/errors.ts';
import { limits } from '../limits.ts';
import { checkId, isTimestamp } from '../values/check.ts';
import { utf8Length } from '../values/utf8.ts';
import type { WireColumns } from '../values/wire.ts';

// The parts that messages are made of. A message is defined once, as a schema: its type, the check of the side that reads it,
// and the OpenAPI document of the server all come from there. A schema of a request says what is expected, for the sender
// of another; it takes no member that it does not know. An answer may have members that are not known, since a server may be
// newer than the app. The functions that make schemas are marked as free of side effects: a page that reads no requests leaves
// their schemas out.

/** A message as its schema describes it; nobody changes it. */
export type Message<Schema extends v.GenericSchema> = Unchanging<v.InferOutput<Schema>>;

type Unchanging<T> = unknown extends T
  ? T
  : T extends readonly (infer Item)[]
    ? readonly Unchanging<Item>[]
    : T extends object
      ? string extends keyof T
        ? T
        : { readonly [Name in keyof T]: Unchanging<Exclude<T[Name], undefined>> }
      : T;

const isObject = (value: unknown): value is Readonly<Record<string, unknown>> =>
  typeof value === 'object' && value !== null && !Array.isArray(value);

const uuidForm = /^[0-9a-f]{8}-[0-9a-f]{4}-[1-8][0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/;
const aUuid = 'a UUID in lower case';

/** A UUID in lower case. */
export const uuid: v.GenericSchema<unknown, string> = v.pipe(v.string(aUuid), v.regex(uuidForm, aUuid));

/** Any text. */
export const text: v.GenericSchema<unknown, string> = v.string('a text');

/** A text that a database can look for. */
// @__NO_SIDE_EFFECTS__
export const searchable = (expected: string): v.GenericSchema<unknown, string> =>
  v.pipe(
    v.string(expected),
    v.check((given) => !given.includes('\0'), expected),
  );

/** The name of a table or column, as databases have them. */
// @__NO_SIDE_EFFECTS__
export const nameOf = (expected: string): v.GenericSchema<unknown, string> =>
  v.pipe(
    v.string(`${expected} of at most ${limits.nameBytes} bytes`),
    v.check(isName, `${expected} of at most ${limits.nameBytes} bytes`),
  );

function isName(given: string): boolean {
  return given.length > 0 && given.length <= limits.nameBytes && utf8Length(given) <= limits.nameBytes;
}

/** The id of a row, as an answer has it. */
export const rowId: v.GenericSchema<unknown, string> = v.pipe(
  v.string(),
  v.check((id) => checkId(id) === undefined),
);

/** A time: RFC 3339 in UTC, with milliseconds. */
export const timestamp: v.GenericSchema<unknown, string> = v.custom<string>(
  isTimestamp,
  'an RFC 3339 time in UTC with milliseconds',
);

/** A whole number, from the least that there may be to the most. */
// @__NO_SIDE_EFFECTS__
export const wholeNumber = (least: number, most = Number.MAX_SAFE_INTEGER): v.GenericSchema<unknown, number> => {
  const expected = `a whole number from ${least}${most < Number.MAX_SAFE_INTEGER ? ` to ${most}` : ''}`;
  return v.pipe(v.number(expected), v.safeInteger(expected), v.minValue(least, expected), v.maxValue(most, expected));
};

/** A whole number that counts something, or a position. */
export const count: v.GenericSchema<unknown, number> = v.pipe(v.number(), v.safeInteger(), v.minValue(0));

/** True or false. */
export const yesOrNo: v.GenericSchema<unknown, boolean> = v.boolean('true or false');

/** A cursor, as the server gave it. */
export const cursor: v.GenericSchema<unknown, string> = v.pipe(
  v.string('a cursor this server gave'),
  v.description('Sealed by the server; kept, and never looked into.'),
);

/** The version of the app's schema. */
export const schemaVersion: v.GenericSchema<unknown, number> = v.pipe(
  wholeNumber(1),
  v.description('The version of the schema the app has.'),
);

/** A member of a request that may be missing, as the OpenAPI document describes it. */
// @__NO_SIDE_EFFECTS__
export const described = <Member extends v.GenericSchema>(member: Member, description: string) =>
  v.optional(v.pipe(member, v.description(description)));

/** A list of a request. More entries than it takes are `too-large`, before any of them is looked at. */
// @__NO_SIDE_EFFECTS__
export const listOf = <Item>(
  item: v.GenericSchema<unknown, Item>,
  most: number,
): v.GenericSchema<unknown, readonly Item[]> =>
  v.pipe(
    v.custom<readonly unknown[]>(Array.isArray, 'a list'),
    v.maxLength(most),
    v.array(item),
    // Said again for the OpenAPI document, which begins at the list of items.
    v.maxLength(most),
  );

/** An object whose names are for the schema of the app to say, and whose values are all of one kind. */
// @__NO_SIDE_EFFECTS__
export function recordOf<Value>(
  values: v.GenericSchema<unknown, Value>,
  nameOfWhat?: string,
): v.GenericSchema<unknown, Readonly<Record<string, Value>>> {
  const record = v.custom<Readonly<Record<string, unknown>>>(isObject, 'an object');
  return v.pipe(
    // The record of the library leaves out what is named as a member of every object.
    Object.assign(record, { values }),
    v.rawTransform(({ dataset: { value: given }, addIssue, NEVER }): Readonly<Record<string, Value>> => {
      const read: [string, Value][] = [];
      for (const [key, value] of Object.entries(given)) {
        if (nameOfWhat !== undefined && !isName(key)) {
          addIssue({ message: `${nameOfWhat} of at most ${limits.nameBytes} bytes`, input: key });
          return NEVER;
        }
        const { success, output, issues } = v.safeParse(values, value, { abortEarly: true });
        if (!success) {
          const [{ message, input, path = [] }] = issues;
          const place = { type: 'object', origin: 'value', input: { ...given }, key, value } as const;
          addIssue({ message, input, path: [place, ...path] });
          return NEVER;
        }
        read.push([key, output]);
      }
      return Object.fromEntries(read);
    }),
  );
}

/** Conditions by table; the schema of the app says which there may be. */
export const conditions: v.GenericSchema<unknown, Readonly<Record<string, unknown>>> = v.custom<
  Readonly<Record<string, unknown>>
>(isObject, 'an object');

/** The schema of a record's values; undefined where it is the schema of something else. */
export const valuesOf = (schema: object): v.GenericSchema | undefined =>
  'values' in schema ? (schema.values as v.GenericSchema) : undefined;

/** Values by column, as they travel. The columns' types check them, where they are written. */
export const columns: v.GenericSchema<unknown, WireColumns> = v.custom<WireColumns>(isObject);

/** Values by column, as a request names them. */
export const namedColumns: v.GenericSchema<unknown, WireColumns> = v.pipe(
  v.custom<WireColumns>(isObject, 'an object'),
  v.check((given) => Object.keys(given).every(isName), `names of columns of at most ${limits.nameBytes} bytes`),
);

/** An object of a request, which has these members and no other. */
// @__NO_SIDE_EFFECTS__
export const requestOf = <const Entries extends v.ObjectEntries>(
  entries: Entries,
): v.GenericSchema<unknown, v.InferOutput<v.StrictObjectSchema<Entries, undefined>>> =>
  v.pipe(
    // A list is an object to the library.
    v.custom<object>(isObject, 'an object'),
    v.strictObject(entries, ({ expected, path }) => {
      if (expected === 'never') return `only ${Object.keys(entries).join(', ')}`;
      const missing = entries[String(path?.[0].key)];
      const [issue] = (missing && v.safeParse(missing, undefined).issues) ?? [];
      return issue?.message ?? 'an object';
    }),
  );

/** Reads a request. @throws KoinonError `malformed-request` or `too-large`, naming the field. */
export function readRequest<Schema extends v.GenericSchema>(
  schema: Schema,
  given: unknown,
  whole = 'the request',
): Message<Schema> {
  const { success, output, issues } = v.safeParse(schema, given, { abortEarly: true });
  if (success) return output as Message<Schema>;
  const [{ type, expected, message, input, requirement, path = [] }] = issues;
  const isUnknownMember = type === 'strict_object' && expected === 'never';
  const at = fieldOf(isUnknownMember ? path.slice(0, -1) : path) || whole;
  if (type === 'max_length' && Array.isArray(input))
    throw new KoinonError('too-large', `${at} takes ${requirement} entries at most, not ${input.length}.`);
  throw malformed(at, message, input);
}

function fieldOf(path: readonly { readonly key: unknown }[]): string {
  let field = '';
  for (const { key } of path) field += typeof key === 'number' ? `[${key}]` : `${field && '.'}${String(key)}`;
  return field;
}

/** The error for a field of a request that is not as it should be. */
export function malformed(field: string, expected: string, given: unknown): KoinonError {
  return new KoinonError('malformed-request', `${field}: ${expected} is expected, not ${shown(given)}.`, {
    value: given,
  });
}

/** Looks at an answer, whoever gave it. @throws KoinonError `server-answer` when it does not fit. */
export function checkAnswer<Schema extends v.GenericSchema>(
  schema: Schema,
  body: unknown,
  to: string,
): Message<Schema> {
  if (!fits(schema, body)) throw noAnswer(to, body);
  return body;
}

/** Tells whether a value fits a schema. The value is used as it is. */
export function fits<Schema extends v.GenericSchema>(schema: Schema, value: unknown): value is Message<Schema> {
  return v.is(schema, value);
}

/** The error for an answer that is none. */
export function noAnswer(to: string, body: unknown): KoinonError {
  return new KoinonError(
    'server-answer',
    `This is no answer to ${to}: ${shown(body)}. Check the server's address, and that a Koinon server answers there.`,
  );
}
