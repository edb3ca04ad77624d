import { KoinonError, shown } from '../errors/errors.ts';
import { limits } from '../limits.ts';
import type { Action, Actions } from '../table/action.ts';
import { type Column, type ColumnType, isOperatedOn, type Presence } from '../table/column.ts';
import { keyTypes } from '../table/composite-key.ts';
import { named } from '../table/named.ts';
import type { Columns, Table, ValueOf } from '../table/table.ts';
import { checkValue } from '../values/check.ts';
import { decimalSizeOf, mostDigits, readDecimal } from '../values/decimal.ts';
import { utf8Length } from '../values/utf8.ts';

/** Tables by name. */
export type Tables = Readonly<Record<string, Table>>;

/** Options of a whole schema. */
export interface SchemaOptions<Settings extends Columns = Columns, A extends Actions = Actions> {
  /** Counts up with every change that devices must migrate. Default 1. */
  readonly version?: number;
  /** Typed single values a device keeps for itself, by name: never sent. Each is optional or has a default. */
  readonly settings?: Settings;
  /** The operations that the server runs, by name: see {@link action}. */
  readonly actions?: A;
}

/** The typed description of the tables: one value that app and server share. Made by {@link schema}. */
export interface Schema<T extends Tables = Tables, Settings extends Columns = Columns, A extends Actions = Actions> {
  readonly tables: T;
  readonly version: number;
  readonly settings: Settings;
  readonly actions: A;
  /** The names of the tables that were left out because the server holds them: in the part of a schema that a device has. */
  readonly leftToServer?: readonly string[];
}

/** The names of a schema's settings. */
export type SettingName<S extends Schema> = Extract<keyof S['settings'], string>;

/** The value of a setting. */
export type SettingValue<S extends Schema, N extends SettingName<S>> = ValueOf<S['settings'][N]>;

/** Bytes that are somewhere else yet: a browser's Blob or File. Reading them costs the thread that gives them nothing. */
export interface BytesSource {
  /** The number of bytes. */
  readonly size: number;
  /** Reads them all. */
  arrayBuffer(): Promise<ArrayBuffer>;
}

/** The names of a schema's tables. */
export type TableName<S extends Schema> = Extract<keyof S['tables'], string>;

/** The names of the tables that a server keeps: those whose rows do not stay on one device. */
export type SyncedTableName<S extends Schema> = {
  [T in TableName<S>]: S['tables'][T]['home'] extends 'device' ? never : T;
}[TableName<S>];

/** The names of the tables whose rows are on a device: all but those that the server holds. */
export type HeldTableName<S extends Schema> = {
  [T in TableName<S>]: S['tables'][T]['home'] extends 'server' ? never : T;
}[TableName<S>];

/** The names of the tables that a device may write. */
export type WritableTableName<S extends Schema> = {
  [T in HeldTableName<S>]: S['tables'][T]['readOnly'] extends true ? never : T;
}[HeldTableName<S>];

type ColumnsOf<S extends Schema, T extends TableName<S>> = S['tables'][T]['columns'];
/** A value that a column takes: its own type, or for bytes also something that is read when it is stored, such as a File. */
type GivenOf<C> = ValueOf<C> | (C extends { readonly type: 'bytes' } ? BytesSource : never);
type NeedsOf<C extends Columns, Need extends Presence> = {
  [K in keyof C]: C[K] extends Column<infer _Value, infer Has> ? ([Has] extends [Need] ? K : never) : never;
}[keyof C];
type Flat<T> = { [K in keyof T]: T[K] };

/** A row as it is read: every column, null where it has no value. Frozen. */
export type Row<S extends Schema, T extends TableName<S>> = Flat<
  { readonly id: string } & { readonly [K in keyof ColumnsOf<S, T>]: ValueOf<ColumnsOf<S, T>[K]> }
>;

/** A row as it is given to `insert`: the id and whatever is optional or has a default may be left out. A key that the database gives is. */
export type NewRow<S extends Schema, T extends TableName<S>> = Flat<
  { readonly id?: S['tables'][T]['assignedKey'] extends true ? never : string } & {
    readonly [K in NeedsOf<ColumnsOf<S, T>, 'required'>]: GivenOf<ColumnsOf<S, T>[K]>;
  } & {
    readonly [K in NeedsOf<ColumnsOf<S, T>, 'optional' | 'defaulted'>]?: GivenOf<ColumnsOf<S, T>[K]>;
  }
>;

/** The columns an update may carry. A counter is added to: setting it would lose what other devices add. */
export type Patch<S extends Schema, T extends TableName<S>> = Flat<{
  readonly [K in Exclude<NeedsOf<ColumnsOf<S, T>, 'required' | 'optional' | 'defaulted'>, CounterOf<S, T>>]?: GivenOf<
    ColumnsOf<S, T>[K]
  >;
}>;

/** The counters of a table, where its columns are known. */
type CounterOf<S extends Schema, T extends TableName<S>> = {
  [K in keyof ColumnsOf<S, T>]: ColumnType extends ColumnsOf<S, T>[K]['type']
    ? never
    : ColumnsOf<S, T>[K]['type'] extends 'counter' | 'decimal-counter'
      ? K
      : never;
}[keyof ColumnsOf<S, T>];

/** The names of a table's columns of one type: its counters, say. */
export type ColumnOfType<S extends Schema, T extends TableName<S>, Type extends ColumnType> = Extract<
  { [K in keyof ColumnsOf<S, T>]: ColumnsOf<S, T>[K]['type'] extends Type ? K : never }[keyof ColumnsOf<S, T>],
  string
>;

/** The names of a schema's actions. */
export type ActionName<S extends Schema> = Extract<keyof S['actions'], string>;

type InputColumns<S extends Schema, N extends ActionName<S>> = S['actions'][N]['input']['columns'];
type ResultColumns<S extends Schema, N extends ActionName<S>> = S['actions'][N]['result']['columns'];

/** Values as they are given: whatever is optional or has a default may be left out. */
type GivenValues<C extends Columns> = Flat<
  { readonly [K in NeedsOf<C, 'required'>]: ValueOf<C[K]> } & {
    readonly [K in NeedsOf<C, 'optional' | 'defaulted'>]?: ValueOf<C[K]>;
  }
>;

/** All values, null where none was given. */
type WholeValues<C extends Columns> = Flat<{ readonly [K in keyof C]: ValueOf<C[K]> }>;

/** The input of an action, as it is given: whatever is optional or has a default may be left out. */
export type ActionInput<S extends Schema, N extends ActionName<S>> = GivenValues<InputColumns<S, N>>;

/** The input of an action, as its handler gets it: every value, null where none was given. */
export type TakenInput<S extends Schema, N extends ActionName<S>> = WholeValues<InputColumns<S, N>>;

/** The result of an action, as the handler returns it. */
export type GivenResult<S extends Schema, N extends ActionName<S>> = GivenValues<ResultColumns<S, N>>;

/** The result of an action, as the app gets it. */
export type ResultOf<S extends Schema, N extends ActionName<S>> = WholeValues<ResultColumns<S, N>>;

/** The table that a reference column points at. */
export type TargetOf<S extends Schema, T extends TableName<S>, C> = C extends keyof ColumnsOf<S, T>
  ? ColumnsOf<S, T>[C] extends { readonly target: infer Target extends TableName<S> }
    ? Target
    : never
  : never;

/**
 * Describes the data of an app once, for the app, its server and the compiler.
 *
 * @throws KoinonError `schema-invalid` naming the table, column and rule, before anything is created.
 * @example
 * const cooperative = schema({
 *   site: table({ name: text() }),
 *   hive: table({ site: reference('site'), frames: counter() }),
 * })
 */
export function schema<
  const T extends Tables,
  const Settings extends Columns = Record<never, Column>,
  const A extends Actions = Record<never, Action>,
>(tables: T, options: SchemaOptions<Settings, A> = {}): Schema<T, Settings, A> {
  const { version = 1, settings = {} as Settings, actions = {} as A } = options;
  if (!Number.isSafeInteger(version) || version < 1) {
    throw new KoinonError('schema-invalid', `A schema's version is a whole number from 1, not ${shown(version)}.`);
  }
  checkNames('table', Object.keys(tables));
  for (const [name, definition] of Object.entries(tables)) checkTable(tables, name, definition);
  for (const [name, setting] of Object.entries(settings))
    if (!setting.optional && setting.default === undefined)
      throw new KoinonError('schema-invalid', `The setting ${shown(name)} must be optional or have a default.`, {
        column: name,
      });
  for (const [name, each] of Object.entries(actions)) checkAction(tables, name, each);
  return Object.freeze({ tables: named(tables), version, settings, actions: named(actions) });
}

/** The table of that name. @throws KoinonError `unknown-table`. */
export function tableOf(schema: Schema, name: string): Table {
  const found = Object.hasOwn(schema.tables, name) ? schema.tables[name] : undefined;
  if (found) return found;
  if (schema.leftToServer?.includes(name))
    throw new KoinonError(
      'table-on-server',
      `The server holds the table ${name}; its rows are not on this device. Read it with get, rows, count, summary or live of the replica, outside of transactions. Only the server's side writes it: for a device, an action does.`,
      { table: name },
    );
  throw new KoinonError(
    'unknown-table',
    `There is no table ${shown(name)}; the schema has ${Object.keys(schema.tables).join(', ')}.`,
    { table: name },
  );
}

/** The column of that name, `id` excepted. @throws KoinonError `unknown-column`. */
export function columnOf(table: Table, tableName: string, name: string): Column {
  const found = Object.hasOwn(table.columns, name) ? table.columns[name] : undefined;
  if (found) return found;
  throw new KoinonError(
    'unknown-column',
    `Table ${tableName} has no column ${shown(name)}; it has id, ${Object.keys(table.columns).join(', ')}.`,
    { table: tableName, column: name },
  );
}

const nameForm = /^[\p{L}_][\p{L}\p{N}_ -]{0,62}$/u;
/** Words that have a meaning of their own in a query's `where`. */
const queryWords = new Set(['and', 'or', 'not']);

/** @param table whose names they are, where they are those of columns. */
function checkNames(kind: string, names: readonly string[], table?: string): void {
  const [whose, of] = table === undefined ? ['The schema', ''] : [`The table ${table}`, ` of ${table}`];
  const details = table === undefined ? {} : { table };
  if (names.length === 0)
    throw new KoinonError('schema-invalid', `${whose} has no ${kind}; give it at least one.`, details);
  const seen = new Map<string, string>();
  for (const name of names) {
    const refuse = (why: string) => {
      throw new KoinonError('schema-invalid', `The ${kind} name ${shown(name)}${of} ${why}.`, {
        ...details,
        value: name,
      });
    };
    if (!nameForm.test(name))
      refuse('must start with a letter or underscore and hold letters, digits, spaces, - or _, at most 63');
    if (utf8Length(name) > limits.nameBytes)
      refuse(`has more than ${limits.nameBytes} bytes, which PostgreSQL cannot keep`);
    if (name.toLowerCase().startsWith('koinon_')) refuse('starts with koinon_, which Koinon keeps for its own tables');
    if (name.toLowerCase().startsWith('sqlite_')) refuse('starts with sqlite_, which SQLite keeps for itself');
    if (queryWords.has(name)) refuse('is a word of the query language');
    if (name in Object.prototype) refuse('is a name that every object in JavaScript has already');
    const twin = seen.get(name.toLowerCase());
    if (twin !== undefined) refuse(`differs from ${shown(twin)} only in case, which SQL does not tell apart`);
    seen.set(name.toLowerCase(), name);
  }
}

const noInput = new Set<ColumnType>(['counter', 'decimal-counter', 'set', 'file']);

function checkAction(tables: Tables, name: string, { input, result }: Action): void {
  const refuse = (column: string | undefined, why: string) => {
    throw new KoinonError('schema-invalid', `The action ${shown(name)}${column ? `, ${column}` : ''}: ${why}`, {
      value: name,
      ...(column === undefined ? {} : { column }),
    });
  };
  if (!nameForm.test(name) || utf8Length(name) > limits.nameBytes || name in Object.prototype)
    refuse(undefined, 'its name is to be one that a table could have');
  if (Object.hasOwn(tables, name)) refuse(undefined, 'a table has this name');
  for (const [column, definition] of [...input.entries, ...result.entries]) {
    if (column === 'id') refuse(column, 'this name is taken: a call has an id already');
    if (noInput.has(definition.type) || definition.assigned)
      refuse(column, `a ${definition.type} column is for rows; it is no value of an action`);
    if (definition.type === 'reference' && !Object.hasOwn(tables, definition.target ?? ''))
      refuse(column, `references ${shown(definition.target)}, which is not a table of this schema`);
    if (definition.type === 'reference' && tables[definition.target ?? '']?.home === 'device')
      refuse(column, `references ${shown(definition.target)}, whose rows never leave the device`);
  }
}

const ranged = new Set<ColumnType>(['integer', 'real', 'counter', 'decimal', 'decimal-counter', 'big-integer']);
const filterable = new Set<ColumnType>(['text', 'one-of', 'reference', 'integer', 'boolean', 'date']);
const measured = new Set<ColumnType>(['text', 'bytes']);

/** Digits and bounds that a column of exact numbers cannot have. */
function checkDecimalSize(column: Column, refuse: (why: string) => void): void {
  const size = decimalSizeOf(column);
  if (size === undefined) return;
  const { precision, scale } = size;
  if (!Number.isSafeInteger(precision) || precision < 1 || precision > mostDigits)
    refuse(`has ${shown(precision)} digits; a decimal column has 1 to ${mostDigits}`);
  if (!Number.isSafeInteger(scale) || scale < 0 || scale > precision)
    refuse(`has ${shown(scale)} digits after the point, of ${precision} in all`);
  for (const bound of [column.minimum, column.maximum])
    if (bound !== undefined && !('text' in readDecimal(bound, size)))
      refuse(`has the bound ${shown(bound)}, which is no text of a number of its own digits`);
}

/** A key of several columns that cannot make an id. */
function checkKey(definition: Table, refuse: (column: string | undefined, why: string) => void): void {
  const { key, columns } = definition;
  if (key.length === 0) return;
  if (key.length === 1 || new Set(key).size < key.length)
    refuse(
      undefined,
      `the key ${shown(key)} is no list of two or more different columns; a row has the key id without one`,
    );
  if (definition.assignedKey || definition.naturalKey.length > 0)
    refuse(undefined, 'the key is made of columns, so it is neither given by the database nor found by a natural key');
  for (const name of key) {
    const column = Object.hasOwn(columns, name) ? columns[name] : undefined;
    if (column === undefined || column.optional || column.assigned || !keyTypes.has(column.type))
      refuse(name, `is named by the key, and is not a required column of the types ${[...keyTypes].join(', ')}`);
  }
}

function checkTable(tables: Tables, tableName: string, definition: Table): void {
  checkNames('column', Object.keys(definition.columns), tableName);
  const refuse = (column: string | undefined, message: string) => {
    throw new KoinonError('schema-invalid', `${tableName}${column ? `.${column}` : ''}: ${message}`, {
      table: tableName,
      ...(column === undefined ? {} : { column }),
    });
  };
  for (const [name, label] of [
    [undefined, definition.label],
    ...definition.entries.map(([name, column]) => [name, column.label] as const),
  ] as const)
    if (label !== undefined && (typeof label !== 'string' || label.trim() === ''))
      refuse(name, `the label ${shown(label)} is not a text that a person can read`);
  const { namedBy } = definition;
  if (namedBy !== undefined && !Object.hasOwn(definition.columns, namedBy))
    refuse(namedBy, 'is to name the rows of the table, and is not a column of it');
  if (definition.readOnly && definition.home === 'device')
    refuse(undefined, 'rows that stay on the device are written there, so the table cannot be read only');
  if (definition.assignedKey && definition.home === 'device')
    refuse(undefined, 'rows that stay on the device have no key from a database');
  checkKey(definition, refuse);
  for (const [name, column] of Object.entries(definition.columns)) {
    if (definition.home === 'server' && column.type === 'file')
      refuse(name, 'a table that the server holds has no files: devices keep the contents of rows that they hold');
    if (column.merge === 'by line' && column.type !== 'text') refuse(name, 'only text is merged by line');
    if (column.merge === 'by member' && column.type !== 'json') refuse(name, 'only json is merged by member');
    if (name.toLowerCase() === 'id') refuse(name, 'every table has the text key id already');
    if (column.type === 'reference' && !Object.hasOwn(tables, column.target ?? ''))
      refuse(name, `references ${shown(column.target)}, which is not a table of this schema`);
    const target = Object.hasOwn(tables, column.target ?? '') ? tables[column.target ?? ''] : undefined;
    if (target !== undefined && target.key.length > 0)
      refuse(
        name,
        `references ${shown(column.target)}, whose key is several columns; have columns for ${target.key.join(', ')} here`,
      );
    if (column.type === 'reference' && definition.home !== 'device' && tables[column.target ?? '']?.home === 'device')
      refuse(name, `references ${shown(column.target)}, whose rows never leave the device`);
    if (column.filterable && !filterable.has(column.type))
      refuse(name, `a ${column.type} column cannot be filterable; ${[...filterable].join(', ')} can`);
    checkDecimalSize(column, (why) => refuse(name, why));
    if (column.maximumBytes !== undefined && (!Number.isSafeInteger(column.maximumBytes) || column.maximumBytes < 1))
      refuse(name, `has ${shown(column.maximumBytes)} as the most bytes, which is no number from 1`);
    for (const each of column.types ?? [])
      if (!/^[a-z0-9][\w!#$&^.+-]*\/(\*|[a-z0-9][\w!#$&^.+-]*)$/.test(each))
        refuse(name, `lists ${shown(each)}, which is no media type; image/jpeg is one, image/* are all of a kind`);
    if (column.oneOf && new Set(column.oneOf).size !== column.oneOf.length) refuse(name, 'lists a value twice');
    if (!ranged.has(column.type) && (column.minimum !== undefined || column.maximum !== undefined))
      refuse(name, `a ${column.type} column has no minimum or maximum`);
    if (!measured.has(column.type) && (column.minimumLength !== undefined || column.maximumLength !== undefined))
      refuse(name, `a ${column.type} column has no length limits`);
    if (column.unique && (column.type === 'json' || column.type === 'file' || isOperatedOn(column)))
      refuse(name, `a ${column.type} column cannot be unique`);
    if (column.default !== undefined && typeof column.default !== 'function') {
      const wrong = checkValue(column, column.default);
      if (wrong) refuse(name, `the default ${shown(column.default)} breaks the column's own rule ${shown(wrong.rule)}`);
    }
  }
  for (const name of definition.naturalKey)
    if (
      ![
        ...['text', 'one-of', 'reference', 'integer', 'boolean', 'date', 'timestamp'],
        ...['decimal', 'time', 'local-date-time'],
      ].includes(definition.columns[name]?.type ?? '')
    )
      refuse(name, 'is named by the natural key, and is not a column whose values are simple');
  for (const group of [...definition.unique, ...definition.index])
    for (const name of group)
      if (!Object.hasOwn(definition.columns, name))
        refuse(name, 'is named by a unique or index group but is not a column');
}
