import {
  type AnyRow,
  type Condition,
  KoinonError,
  type Only,
  type Schema,
  type TableFilter,
  tableOf,
} from '@koinon/core';
import { columnOf, everything, parseWhere, shown, unfilterable } from '@koinon/core/internal';
import type { User } from '../auth/authenticate.ts';
import type { AnyTableScope, ScopeContext, Scopes } from './scopes.ts';
import { intersection, keptViewOf, nothing, type View, viewOf, whole } from './view.ts';

/** Rows that a scope was made from. */
export interface Consulted {
  readonly table: string;
  readonly where: Condition;
}

/** A scope as it stands in one snapshot. */
export interface Evaluated {
  readonly view: View;
  /** When such rows change, it may be another one. */
  readonly consulted: readonly Consulted[];
}

/** The same of what a replica may hold. */
export interface EvaluatedHeld extends Evaluated {
  /** All that the user may read. */
  readonly readable: () => View;
}

/** The place where a scope is evaluated: it reads rows in one snapshot. */
export interface ScopeSource {
  rowsWhere(table: string, where: Condition): Promise<AnyRow[]>;
}

/** Told of something in the scopes that is most probably a mistake. */
export type ScopeWarning = (message: string) => void;

/** The evaluation for one user, in one snapshot. */
interface Evaluating {
  readonly user: User | undefined;
  readonly source: ScopeSource;
  /** The rows that were read so far, by table and condition. */
  readonly rows: Map<string, Promise<AnyRow[]>>;
  readonly consulted: Consulted[];
  /** The filters of tables that are evaluated, or just being. */
  readonly filters: Map<string, Promise<TableFilter>>;
}

/** Rows of a table that another one's scope may follow. */
const mostFollowed = 30_000;

/** The scopes of users, evaluated. */
export class ScopeSet {
  private readonly schema: Schema;
  private readonly scopes: ReadonlyMap<string, AnyTableScope>;
  private readonly warn: ScopeWarning;
  private readonly warned = new Set<string>();

  constructor(schema: Schema, scopes: ReadonlyMap<string, AnyTableScope>, warn: ScopeWarning) {
    this.schema = schema;
    this.scopes = scopes;
    this.warn = warn;
  }

  /** Tells whether everybody gets everything, unless he asks for less. */
  get isOpen(): boolean {
    return this.scopes.size === 0;
  }

  /** Tells whether not everybody gets, or may write, every row of a table. */
  isGuarded(table: string): boolean {
    const scope = this.scopes.get(table);
    return scope !== undefined && (scope.read !== 'all' || scope.write !== undefined);
  }

  /** The rule by which a table may be written, where it has one. */
  writeRule(table: string): AnyTableScope['write'] {
    return this.scopes.get(table)?.write;
  }

  /** The rows and columns that a user may read, in the snapshot of a source. @throws KoinonError as {@link evaluateHeld} does. */
  async evaluate(user: User | undefined, source: ScopeSource): Promise<Evaluated> {
    if (this.isOpen) return { view: whole, consulted: [] };
    const { filters, consulted } = await this.filters(user, source);
    return { view: keptViewOf(filters), consulted };
  }

  /**
   * What a user's replica may hold, in the snapshot of a source: of what he may read, the tables that devices hold, and of those what is
   * asked for. A table that this server does not know is passed over: the app may be newer, and there is nothing of it here.
   *
   * @throws KoinonError `schema-invalid` where a scope filters by a column that is not filterable; `unknown-column`, `query-invalid` for
   *   what is asked.
   */
  async evaluateHeld(user: User | undefined, source: ScopeSource, asked: Only = {}): Promise<EvaluatedHeld> {
    const { filters, consulted } = await this.filters(user, source);
    const held: Record<string, TableFilter> = {};
    for (const [name, { home }] of Object.entries(this.schema.tables)) {
      const filter = home === 'server' ? { where: nothing } : this.narrowed(name, filters[name] ?? {}, asked);
      if (filter.where !== undefined || filter.without !== undefined) held[name] = filter;
    }
    const isNarrowed = asked.tables !== undefined || asked.where !== undefined;
    const view = isNarrowed ? viewOf(held) : keptViewOf(held);
    return {
      view: asked.columns === undefined ? view : view.knowing(asked.columns),
      consulted,
      readable: () => keptViewOf(filters),
    };
  }

  /** What a user may read of each table; tables of which he may read everything are left out. */
  private async filters(user: User | undefined, source: ScopeSource) {
    const consulted: Consulted[] = [];
    const evaluating: Evaluating = { user, source, consulted, rows: new Map(), filters: new Map() };
    const filters: Record<string, TableFilter> = {};
    for (const name of Object.keys(this.schema.tables)) {
      const filter = await this.filterOf(name, evaluating);
      if (filter.where !== undefined || filter.without !== undefined) filters[name] = filter;
    }
    return { filters, consulted };
  }

  private filterOf(name: string, evaluating: Evaluating): Promise<TableFilter> {
    const known = evaluating.filters.get(name) ?? this.evaluateTable(name, evaluating);
    evaluating.filters.set(name, known);
    return known;
  }

  private async evaluateTable(name: string, evaluating: Evaluating): Promise<TableFilter> {
    const scope = this.scopes.get(name);
    if (scope === undefined) return {};
    const { user } = evaluating;
    const where =
      scope.with === undefined
        ? await this.ownWhere(name, scope, evaluating)
        : await this.followed(name, scope.with, evaluating);
    const withheld = typeof scope.withhold === 'function' ? scope.withhold(user) : (scope.withhold ?? []);
    return { ...(where && { where }), ...(withheld.length > 0 && { without: [...withheld].sort() }) };
  }

  /** The condition that a table's own scope gives; undefined for all rows. */
  private async ownWhere(
    name: string,
    { read }: AnyTableScope,
    evaluating: Evaluating,
  ): Promise<Condition | undefined> {
    const context: ScopeContext<Schema> = {
      rows: ((other: string, given: unknown) => {
        this.warnOfSelfService(name, other);
        return rowsOf(evaluating, other, parseWhere(other, tableOf(this.schema, other), given));
      }) as ScopeContext<Schema>['rows'],
    };
    const given = typeof read === 'function' ? await read(evaluating.user, context) : read;
    return given === 'all' ? undefined : given === 'none' ? nothing : this.condition(name, given);
  }

  /** The rows that refer to those of another table which are in the scope; undefined for all rows. */
  private async followed(name: string, column: string, evaluating: Evaluating): Promise<Condition | undefined> {
    const parent = tableOf(this.schema, name).columns[column]?.target as string;
    const { where } = await this.filterOf(parent, evaluating);
    if (where === undefined) return undefined;
    const rows = where === nothing ? [] : await rowsOf(evaluating, parent, where);
    if (rows.length > mostFollowed)
      throw new KoinonError(
        'schema-invalid',
        `The scope of ${name} follows ${parent}, of which a user has ${rows.length} rows; at most ${mostFollowed} can be followed. Give ${name} a filterable column by which its own \`read\` can tell the user's rows.`,
        { table: name, column },
      );
    return { kind: 'in', column, values: rows.map(({ id }) => id) };
  }

  /** A user who may write the rows that say what he gets could give himself more. */
  private warnOfSelfService(name: string, consulted: string): void {
    const key = `${name} ${consulted}`;
    const scope = this.scopes.get(consulted);
    if (this.warned.has(key) || scope === undefined || scope.write !== undefined || scope.read === 'none') return;
    this.warned.add(key);
    this.warn(
      `The scope of ${name} reads ${consulted}, and a user may write the rows of ${consulted} that he may read: he may give himself more of ${name}. Give the scope of ${consulted} a \`write\` that says who may.`,
    );
  }

  private condition(name: string, given: unknown): Condition {
    const where = parseWhere(name, tableOf(this.schema, name), given);
    const column = unfilterable(tableOf(this.schema, name).filterable, where);
    if (column === undefined) return where;
    throw new KoinonError(
      'schema-invalid',
      `The scope of ${name} filters by ${column}, which the schema does not declare filterable.`,
      { table: name, column },
    );
  }

  /** A request can only ask for less than what the user may have. */
  private narrowed(name: string, filter: TableFilter, { tables, where }: Only): TableFilter {
    if (tables !== undefined && !tables.includes(name)) return { ...filter, where: nothing };
    if (where === undefined || !Object.hasOwn(where, name)) return filter;
    const table = tableOf(this.schema, name);
    const wanted = parseWhere(name, table, where[name]);
    // Nobody may find out what is withheld by asking for rows that hold it.
    const open = table.filterable.filter((column) => !filter.without?.includes(column));
    const column = unfilterable(open, wanted);
    if (column !== undefined)
      throw new KoinonError('query-invalid', `Rows of ${name} cannot be asked for by ${column}.`, {
        table: name,
        column,
      });
    return { ...filter, where: intersection([filter.where ?? everything, wanted]) };
  }
}

/** Reads rows once, and notes that the scope depends on them. */
function rowsOf({ rows, consulted, source }: Evaluating, table: string, where: Condition): Promise<AnyRow[]> {
  const key = JSON.stringify([table, where]);
  const known = rows.get(key);
  if (known) return known;
  const found = source.rowsWhere(table, where);
  rows.set(key, found);
  consulted.push({ table, where });
  return found;
}

/**
 * The scopes of a server. Without scopes everybody gets everything.
 *
 * @throws KoinonError `schema-invalid` where a table is not named, or a scope cannot be what it says; `unknown-table`.
 */
export function scopeSet<S extends Schema>(
  schema: Schema,
  scopes: Scopes<S> | undefined,
  warn: ScopeWarning = () => undefined,
): ScopeSet {
  if (scopes === undefined) return new ScopeSet(schema, new Map(), warn);
  const given = scopes as Readonly<Record<string, AnyTableScope | 'all' | 'none'>>;
  for (const name of Object.keys(given)) tableOf(schema, name);
  const read = new Map<string, AnyTableScope>();
  for (const [name, table] of Object.entries(schema.tables)) {
    if (table.home === 'device') continue;
    const scope = Object.hasOwn(given, name) ? given[name] : undefined;
    read.set(name, readScope(schema, name, scope));
  }
  for (const name of read.keys()) refuseCircle(schema, read, name);
  return new ScopeSet(schema, read, warn);
}

const scopeParts = ['read', 'with', 'withhold', 'write'];

function readScope(schema: Schema, name: string, scope: AnyTableScope | 'all' | 'none' | undefined): AnyTableScope {
  const refuse = (why: string) => new KoinonError('schema-invalid', `The scope of ${name} ${why}.`, { table: name });
  if (scope === undefined)
    throw new KoinonError(
      'schema-invalid',
      `\`scopes\` does not name ${name}. Say who gets its rows: 'all' for everybody, 'none' for nobody, a \`read\`, or \`with\` and a reference.`,
      { table: name },
    );
  if (scope === 'all' || scope === 'none') return { read: scope };
  if (typeof scope !== 'object' || scope === null) throw refuse(`is 'all', 'none' or an object, not ${shown(scope)}`);
  const unknown = Object.keys(scope).find((part) => !scopeParts.includes(part));
  if (unknown !== undefined) throw refuse(`has no part ${shown(unknown)}; there are ${scopeParts.join(', ')}`);
  if ((scope.read === undefined) === (scope.with === undefined))
    throw refuse("says who gets its rows by a `read` or by `with`, by one of the two: `read: 'all'` is for everybody");
  if (scope.read !== undefined && typeof scope.read !== 'function' && scope.read !== 'all' && scope.read !== 'none')
    throw refuse(`has a \`read\` that is 'all', 'none' or a function, not ${shown(scope.read)}`);
  if (scope.with === undefined) return scope;
  const column = columnOf(tableOf(schema, name), name, scope.with);
  if (column.target === undefined) throw refuse(`follows ${scope.with}, which is no reference`);
  if (!column.filterable)
    throw refuse(
      `follows ${scope.with}, which the schema does not declare filterable: reference(…, { filterable: true })`,
    );
  return scope;
}

/** Scopes that follow each other say nothing. */
function refuseCircle(schema: Schema, scopes: ReadonlyMap<string, AnyTableScope>, name: string): void {
  const path = [name];
  for (let at = name; ; ) {
    const column = scopes.get(at)?.with;
    const parent = column && tableOf(schema, at).columns[column]?.target;
    if (!parent) return;
    path.push(parent);
    if (path.indexOf(parent) < path.length - 1)
      throw new KoinonError('schema-invalid', `The scopes follow each other in a circle: ${path.join(', ')}.`, {
        table: name,
      });
    at = parent;
  }
}
