import type { Problem } from '../errors/errors.ts';
import type { Column, Presence } from './column.ts';
import { named } from './named.ts';
import type { AnyMergeRule, DeletionRule, MergeRule } from './rules.ts';

/** Columns by name. */
export type Columns = Readonly<Record<string, Column>>;

/** The report of a row check: the column at fault, if it is one, and what is wrong. */
export interface RowComplaint {
  readonly column?: string;
  readonly message: string;
}

/** The home of the rows of a table: every device and the server, the server alone, or one device alone. */
export type Home = 'everywhere' | 'server' | 'device';

type NameOf<C extends Columns> = Extract<keyof C, string>;

/** The type of a column's values. */
export type ValueOf<C> = C extends Column<infer Value, Presence> ? Value : never;

/** A row as a row check is given it: every column, null where it has no value. */
export type CheckedRow<C extends Columns> = { readonly id: string } & { readonly [K in keyof C]: ValueOf<C[K]> };

/** Options of one table. */
export interface TableOptions<
  C extends Columns = Columns,
  H extends Home = Home,
  Assigned extends boolean = boolean,
  ReadOnly extends boolean = boolean,
> {
  /** Groups of columns whose values together no two rows share. */
  readonly unique?: readonly (readonly NameOf<C>[])[];
  /** Groups of columns to keep an index over, in this order. */
  readonly index?: readonly (readonly NameOf<C>[])[];
  /**
   * The columns by whose values a row made on a device is known to be the same as one that is on the server under another
   * id: it takes that id, and the two are merged. A new row that is already there so becomes one with it.
   */
  readonly naturalKey?: readonly NameOf<C>[];
  /**
   * The columns whose values together are the key of a row, in this order, as in a table that joins two others. A row's `id` is made of
   * them: the values, joined by a slash. They have a value in every row, and keep it.
   */
  readonly key?: readonly NameOf<C>[];
  /** How messages name the table, or one row of it, to a person: `Hive`. */
  readonly label?: string;
  /** The column whose value names a row to a person, such as a hive's mark. */
  readonly namedBy?: NameOf<C>;
  /**
   * `device`: rows stay on this device and are never sent. `server`: rows stay on the server, are asked for while it can be reached, and are written
   * by the server's side alone. Default: `everywhere`.
   */
  readonly home?: H;
  /**
   * The database gives the key of a new row, as with numbers that it counts. A device makes the row under a provisional id, which the key
   * replaces everywhere on the device when the server has taken the row up.
   */
  readonly assignedKey?: Assigned;
  /** Only the server's side writes the table: what a device writes is refused, there and on the device. */
  readonly readOnly?: ReadOnly;
  /** The rule for columns that the device and the server have both changed, where a column has no rule of its own. */
  readonly merge?: Extract<MergeRule<never>, string>;
  /** The rule for a row that one side deleted while the other edited it. Default `edit survives`. */
  readonly deletion?: DeletionRule;
  /** Looks at a whole row before it is written; says what is wrong with it, or nothing. */
  readonly check?: (row: CheckedRow<C>) => readonly RowComplaint[] | undefined;
}

/** A table of a schema: its columns besides `id`, and its options. */
export interface Table<
  C extends Columns = Columns,
  H extends Home = Home,
  Assigned extends boolean = boolean,
  ReadOnly extends boolean = boolean,
> {
  readonly columns: C;
  readonly unique: readonly (readonly string[])[];
  readonly index: readonly (readonly string[])[];
  readonly naturalKey: readonly string[];
  /** The columns that make a row's id; none where it has one of its own. */
  readonly key: readonly string[];
  readonly label: string | undefined;
  readonly namedBy: string | undefined;
  readonly home: H;
  /** The rule for columns without one of their own; undefined: what their type brings. */
  readonly merge: AnyMergeRule | undefined;
  readonly deletion: DeletionRule;
  /** Tells whether the database gives the key of a new row. */
  readonly assignedKey: Assigned;
  /** Tells whether only the server's side writes the table. */
  readonly readOnly: ReadOnly;
  /** The columns as a list, in order. */
  readonly entries: readonly (readonly [string, Column])[];
  /** The columns' names, in order. */
  readonly names: readonly string[];
  /** Tells whether every column's value is the same in JSON: there are no bytes and no bigints. */
  readonly isPlain: boolean;
  /** Tells whether rows may hold bytes, which are large and have no JSON form. */
  readonly hasBytes: boolean;
  /** The columns that the server may tell by who gets a row. */
  readonly filterable: readonly string[];
  /** The columns that a unique group or a reference depends on. */
  readonly integrity: readonly string[];
  /** Checks a row as a whole, and says in which columns something is wrong. */
  readonly check: ((row: Readonly<Record<string, unknown>>) => readonly RowComplaint[] | undefined) | undefined;
}

/**
 * Describes one table. Every row has a text `id` besides the columns given here: its primary key, or one that is made of the columns of
 * the option `key`.
 *
 * @example
 * const hive = table({ site: reference('site'), mark: text({ maximumLength: 12 }) }, { unique: [['site', 'mark']] })
 */
export function table<
  const C extends Columns,
  const H extends Home = 'everywhere',
  const Assigned extends boolean = false,
  const ReadOnly extends boolean = false,
>(columns: C, options: TableOptions<C, H, Assigned, ReadOnly> = {}): Table<C, H, Assigned, ReadOnly> {
  const entries = Object.entries(columns);
  const unique = [...entries.filter(([, c]) => c.unique).map(([name]) => [name]), ...(options.unique ?? [])];
  const references = entries.filter(([, c]) => c.target !== undefined).map(([name]) => name);
  return Object.freeze({
    columns: named(columns),
    unique,
    index: [...entries.filter(([, c]) => c.index && !c.unique).map(([name]) => [name]), ...(options.index ?? [])],
    naturalKey: options.naturalKey ?? [],
    key: options.key ?? [],
    label: options.label,
    namedBy: options.namedBy,
    // Without an option its type is the default one.
    home: options.home ?? ('everywhere' as H),
    merge: options.merge,
    deletion: options.deletion ?? 'edit survives',
    assignedKey: options.assignedKey ?? (false as Assigned),
    // Its type says the option; that devices write no table of the server is said by the home.
    readOnly: (options.home === 'server' || options.readOnly === true) as ReadOnly,
    entries,
    names: entries.map(([name]) => name),
    isPlain: entries.every(([, { type }]) => type !== 'bytes' && type !== 'big-integer'),
    hasBytes: entries.some(([, { type }]) => type === 'bytes'),
    filterable: entries.flatMap(([name, column]) => (column.filterable ? [name] : [])),
    integrity: [...new Set([...unique.flat(), ...references])],
    check: options.check as Table['check'],
  });
}

/** A row check's complaint as a problem. */
export function complaintProblem(table: string, id: string, complaint: RowComplaint): Problem {
  return {
    code: 'row-check',
    table,
    id,
    ...(complaint.column === undefined ? {} : { column: complaint.column }),
    message: complaint.message,
  };
}

/** A row without its table's types, as the inside of Koinon handles it: column values by name, `id` among them. */
export type AnyRow = Readonly<Record<string, unknown>> & { readonly id: string };
