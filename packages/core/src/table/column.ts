import type { FileValue } from './file-value.ts';
import type { AnyMergeRule, MergeRule } from './rules.ts';

/** The column types. Each has one file of behaviour in `values/`. */
export type ColumnType =
  | 'text'
  | 'integer'
  | 'real'
  | 'boolean'
  | 'timestamp'
  | 'date'
  | 'time'
  | 'local-date-time'
  | 'json'
  | 'file'
  | 'bytes'
  | 'one-of'
  | 'reference'
  | 'counter'
  | 'decimal'
  | 'decimal-counter'
  | 'big-integer'
  | 'set';

/** Tells whether a new row must, may or must not give a value. */
export type Presence = 'required' | 'optional' | 'defaulted' | 'assigned';

/** Any value JSON can hold. */
export type JsonValue =
  | null
  | boolean
  | number
  | string
  | readonly JsonValue[]
  | { readonly [member: string]: JsonValue };

/** Options every column type takes. */
export interface ColumnOptions<Value> {
  /** The column may hold null, and a new row may leave it out. */
  readonly optional?: boolean;
  /** The value of a new row that gives none: a value, or a function called for each row. */
  readonly default?: Value | (() => Value);
  /** No two rows of the table hold the same value; null does not count. */
  readonly unique?: boolean;
  /** Keep an index, for queries that filter or order by this column. */
  readonly index?: boolean;
  /** The server may tell by this column who gets a row: its earlier values are remembered, and it has an index there. */
  readonly filterable?: boolean;
  /** Only the server gives this column a value; on a device it is null until then, and writing it is refused. */
  readonly assigned?: boolean;
  /** How messages name the column to a person: `Queen's colour`. */
  readonly label?: string;
  /** The rule for the column when the device and the server have both changed it. Default: the table's rule. */
  readonly merge?: MergeRule<Value>;
}

/** Options of columns that hold text: lengths in Unicode code points. */
export interface LengthOptions {
  readonly minimumLength?: number;
  readonly maximumLength?: number;
}

/** Options of columns that hold numbers; both ends are allowed values. */
export interface RangeOptions<Value = number> {
  readonly minimum?: Value;
  readonly maximum?: Value;
}

/**
 * A typed column. Made by {@link text}, {@link integer} and the other column functions; a plain frozen value.
 * `Value` and `Need` exist for the compiler only.
 */
export interface Column<Value = unknown, Need extends Presence = Presence, Type extends ColumnType = ColumnType>
  extends LengthOptions,
    RangeOptions<number | string> {
  readonly type: Type;
  readonly optional: boolean;
  readonly default: unknown;
  readonly unique: boolean;
  readonly index: boolean;
  readonly assigned: boolean;
  readonly filterable: boolean;
  /** Its own merge rule; undefined: the table's, or that of its type. */
  readonly merge: AnyMergeRule | undefined;
  /** The values a one-of column may hold. */
  readonly oneOf?: readonly string[];
  readonly label?: string;
  /** The digits of a decimal column in all, and those after the point. */
  readonly precision?: number;
  readonly scale?: number;
  /** The media types and the size that a file column takes. */
  readonly types?: readonly string[];
  readonly maximumBytes?: number;
  /** The table a reference column points at. */
  readonly target?: string;
  /** Never set: carries the TypeScript types. */
  readonly inferred?: { readonly value: Value; readonly need: Need };
}

/** Options of columns that hold files. */
export interface FileOptions {
  /** The media types that are taken: `['image/jpeg', 'application/pdf']`, or `['image/*']`. All without it. */
  readonly types?: readonly string[];
  /** The most bytes that a file may have: 1 GB where nothing is said. */
  readonly maximumBytes?: number;
}

/** Tells whether a column takes operations, whose outcome nobody can check before they are applied. */
export function isOperatedOn({ type }: Column): boolean {
  return type === 'counter' || type === 'decimal-counter' || type === 'set';
}

type Nullable<Options> = Options extends { optional: true } | { assigned: true } ? null : never;
type NeedOf<Options> = Options extends { assigned: true }
  ? 'assigned'
  : Options extends { optional: true }
    ? 'optional'
    : Options extends { default: unknown }
      ? 'defaulted'
      : 'required';
type Typed<Value, Options, Type extends ColumnType> = Column<Value | Nullable<Options>, NeedOf<Options>, Type>;

interface Particulars extends Omit<ColumnOptions<unknown>, 'merge'>, LengthOptions, RangeOptions<number | string> {
  readonly merge?: AnyMergeRule;
  readonly oneOf?: readonly string[];
  readonly target?: string;
  readonly precision?: number;
  readonly scale?: number;
  readonly types?: readonly string[];
  readonly maximumBytes?: number;
}

function column<Value, Options, Type extends ColumnType>(
  type: Type,
  options: Particulars,
): Typed<Value, Options, Type> {
  const {
    optional = false,
    unique = false,
    index = false,
    assigned = false,
    filterable = false,
    merge,
    default: initial,
    ...rest
  } = options;
  return Object.freeze({
    type,
    optional: optional || assigned,
    default: initial,
    unique,
    index,
    assigned,
    filterable,
    merge,
    ...rest,
  });
}

/**
 * Text: any string of whole Unicode characters, without NUL. Lengths count code points.
 *
 * @example
 * const mark = text({ label: 'mark', minimumLength: 1, maximumLength: 8, unique: true })
 */
export function text<const Options extends ColumnOptions<string> & LengthOptions>(options = {} as Options) {
  return column<string, Options, 'text'>('text', options);
}

/**
 * A whole number from −(2⁵³−1) to 2⁵³−1.
 *
 * @example
 * const strength = integer({ minimum: 0, maximum: 10, default: 5 })
 */
export function integer<const Options extends ColumnOptions<number> & RangeOptions>(options = {} as Options) {
  return column<number, Options, 'integer'>('integer', options);
}

/**
 * A finite double. Minus zero is kept as zero.
 *
 * @example
 * const weight = real({ optional: true, minimum: 0 })
 */
export function real<const Options extends ColumnOptions<number> & RangeOptions>(options = {} as Options) {
  return column<number, Options, 'real'>('real', options);
}

/**
 * An exact number, as text in JavaScript: `'12.50'`. Numbers are compared, ordered and summed as numbers, and every value has all its
 * digits after the point: `'12.5'` becomes `'12.50'`.
 *
 * @param precision the digits in all, from 1 to 38.
 * @param scale the digits after the point.
 * @example
 * const price = decimal(10, 2, { minimum: '0.00', default: '0.00' })
 */
export function decimal<const Options extends ColumnOptions<string> & RangeOptions<string>>(
  precision: number,
  scale: number,
  options = {} as Options,
) {
  return column<string, Options, 'decimal'>('decimal', { ...options, precision, scale });
}

/**
 * An exact number that devices add to, as {@link counter}; sums have no rounding. Starts at zero.
 *
 * @param precision the digits in all, from 1 to 38.
 * @param scale the digits after the point.
 * @example
 * const balance = decimalCounter(12, 2)
 */
export function decimalCounter<const Options extends ColumnOptions<string> & RangeOptions<string> = { default: '0' }>(
  precision: number,
  scale: number,
  options = {} as Options,
) {
  const made = { default: '0', ...options, precision, scale };
  return column<string, { default: '0' } & Options, 'decimal-counter'>('decimal-counter', made);
}

/**
 * A whole number of 64 bits, a `bigint`: from −2⁶³ to 2⁶³−1. For numbers that {@link integer} cannot hold.
 *
 * @example
 * const serialNumber = bigInteger({ optional: true, minimum: 0n })
 */
export function bigInteger<const Options extends ColumnOptions<bigint> & RangeOptions<bigint>>(
  options = {} as Options,
) {
  const { minimum, maximum, ...rest } = options;
  return column<bigint, Options, 'big-integer'>('big-integer', {
    ...(rest as Particulars),
    ...(minimum === undefined ? {} : { minimum: String(minimum) }),
    ...(maximum === undefined ? {} : { maximum: String(maximum) }),
  });
}

/**
 * True or false.
 *
 * @example
 * const sunny = boolean({ default: true })
 */
export function boolean<const Options extends ColumnOptions<boolean>>(options = {} as Options) {
  return column<boolean, Options, 'boolean'>('boolean', options);
}

/**
 * An instant as RFC 3339 text in UTC with milliseconds, exactly as `new Date().toISOString()` writes it.
 *
 * @example
 * const seen = timestamp({ default: () => new Date().toISOString() })
 */
export function timestamp<const Options extends ColumnOptions<string>>(options = {} as Options) {
  return column<string, Options, 'timestamp'>('timestamp', options);
}

/**
 * A calendar day as `YYYY-MM-DD`, without a time zone.
 *
 * @example
 * const born = date({ optional: true })
 */
export function date<const Options extends ColumnOptions<string>>(options = {} as Options) {
  return column<string, Options, 'date'>('date', options);
}

/**
 * A time of day as `HH:MM:SS`, with up to six digits after the second, without a time zone. `'09:30'` becomes `'09:30:00'`.
 *
 * @example
 * const opens = time({ optional: true })
 */
export function time<const Options extends ColumnOptions<string>>(options = {} as Options) {
  return column<string, Options, 'time'>('time', options);
}

/**
 * A day and a time of day as `YYYY-MM-DDTHH:MM:SS` (RFC 3339 without an offset), with up to six digits after the second. No time zone is
 * meant, and nothing ever shifts it: what a clock on the wall shows. An instant is a {@link timestamp}.
 *
 * @example
 * const appointment = localDateTime({ optional: true })
 */
export function localDateTime<const Options extends ColumnOptions<string>>(options = {} as Options) {
  return column<string, Options, 'local-date-time'>('local-date-time', options);
}

/**
 * Any JSON value. `Value` narrows its TypeScript type; nothing is checked beyond being JSON.
 *
 * @example
 * const equipment = json<readonly string[]>({ default: [] })
 */
export function json<Value = JsonValue, const Options extends ColumnOptions<Value> = ColumnOptions<Value>>(
  options = {} as Options,
) {
  return column<Value, Options, 'json'>('json', options);
}

/**
 * Binary data, a `Uint8Array`. Lengths count bytes.
 *
 * @example
 * const photo = bytes({ optional: true, maximumLength: 500_000 })
 */
export function bytes<const Options extends ColumnOptions<Uint8Array> & LengthOptions>(
  options = {} as Options,
  // Named, since what is inferred is a generic type in the declarations, which TypeScript knows from 5.7 on only.
): Typed<Uint8Array, Options, 'bytes'> {
  return column<Uint8Array, Options, 'bytes'>('bytes', options);
}

/**
 * A photo or document. The row holds its description; the content is kept beside the database, and goes up and comes down apart from the row.
 *
 * @example
 * const photo = file({ optional: true, types: ['image/*'], maximumBytes: 20_000_000 })
 */
export function file<const Options extends ColumnOptions<FileValue> & FileOptions>(options = {} as Options) {
  return column<FileValue, Options, 'file'>('file', options);
}

/**
 * One of the listed texts.
 *
 * @example
 * const queen = oneOf(['marked', 'missing'], { default: 'marked' })
 */
export function oneOf<
  const Values extends readonly [string, ...string[]],
  const Options extends ColumnOptions<Values[number]>,
>(values: Values, options = {} as Options) {
  return column<Values[number], Options, 'one-of'>('one-of', { ...options, oneOf: values });
}

/**
 * The id of a row of another table (or the same). The server refuses a reference to a row that is not there.
 *
 * @example
 * const site = reference('site', { optional: true })
 */
export function reference<const Target extends string, const Options extends ColumnOptions<string>>(
  target: Target,
  options = {} as Options,
) {
  const made = column<string, Options, 'reference'>('reference', { index: true, ...options, target });
  return made as typeof made & { readonly target: Target };
}

/**
 * A whole number that devices add to; what each added is summed, so counting never conflicts. Starts at 0.
 *
 * @example
 * const frames = counter({ minimum: 0 })
 */
export function counter<const Options extends ColumnOptions<number> & RangeOptions = { default: 0 }>(
  options = {} as Options,
) {
  return column<number, { default: 0 } & Options, 'counter'>('counter', { default: 0, ...options });
}

/**
 * A set of texts that devices add to and remove from. Kept sorted by code point. Starts empty.
 *
 * @example
 * const tags = setOfText()
 */
export function setOfText<const Options extends ColumnOptions<readonly string[]> = { default: [] }>(
  options = {} as Options,
) {
  return column<readonly string[], { default: readonly string[] } & Options, 'set'>('set', { default: [], ...options });
}
