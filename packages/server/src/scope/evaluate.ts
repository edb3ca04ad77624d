import {
  type AnyRow,
  type Condition,
  everything,
  KoinonError,
  type Only,
  parseWhere,
  type Schema,
  type TableFilter,
  tableOf,
} from '@koinon/core';
import type { User } from '../auth/authenticate.ts';
import type { AnyScopes, ScopeContext, Scopes } from './scopes.ts';
import { intersection, keptViewOf, nothing, type View, viewOf } from './view.ts';

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

/** Where a scope is evaluated: what reads rows in one snapshot. */
export interface ScopeSource {
  rowsWhere(table: string, where: Condition): Promise<AnyRow[]>;
}

/** Who gets what: evaluates the scopes of users. */
export class ScopeSet {
  private readonly schema: Schema;
  readonly scopes: AnyScopes;

  constructor(schema: Schema, scopes: AnyScopes | undefined) {
    this.schema = schema;
    this.scopes = scopes ?? {};
    for (const name of Object.keys(this.scopes)) tableOf(schema, name);
  }

  /** Whether everybody gets everything, unless he asks for less. */
  get isOpen(): boolean {
    return Object.keys(this.scopes).length === 0;
  }

  /**
   * The scope of a user, in the snapshot of a source: what he may have, and of that what is asked for.
   *
   * @throws KoinonError `schema-invalid` where a scope filters by a column that is not filterable; `unknown-table`,
   *   `unknown-column`, `query-invalid` for what is asked.
   */
  async evaluate(user: User | undefined, source: ScopeSource, asked: Only = {}): Promise<Evaluated> {
    const consulted: Consulted[] = [];
    const known = new Map<string, Promise<AnyRow[]>>();
    const context: ScopeContext<Schema> = {
      rows: ((name: string, given: unknown) => {
        const where = parseWhere(name, tableOf(this.schema, name), given);
        const key = JSON.stringify([name, where]);
        const rows = known.get(key) ?? source.rowsWhere(name, where);
        if (!known.has(key)) consulted.push({ table: name, where });
        known.set(key, rows);
        return rows;
      }) as ScopeContext<Schema>['rows'],
    };
    const filters: Record<string, TableFilter> = {};
    for (const name of Object.keys(this.schema.tables)) {
      const filter = this.narrowed(name, await this.filterOf(name, user, context), asked);
      if (filter.where !== undefined || filter.without !== undefined) filters[name] = filter;
    }
    for (const name of [...(asked.tables ?? []), ...Object.keys(asked.where ?? {})]) tableOf(this.schema, name);
    const isNarrowed = asked.tables !== undefined || asked.where !== undefined;
    const view = isNarrowed ? viewOf(filters) : keptViewOf(filters);
    return { view: asked.columns === undefined ? view : view.knowing(asked.columns), consulted };
  }

  private async filterOf(name: string, user: User | undefined, context: ScopeContext<Schema>): Promise<TableFilter> {
    const scope = Object.hasOwn(this.scopes, name) ? this.scopes[name] : undefined;
    if (scope === undefined) return {};
    const given = (await scope.read?.(user, context)) ?? 'all';
    const withheld = typeof scope.withhold === 'function' ? scope.withhold(user) : (scope.withhold ?? []);
    const where = given === 'all' ? undefined : given === 'none' ? nothing : this.condition(name, given);
    return { ...(where && { where }), ...(withheld.length > 0 && { without: [...withheld].sort() }) };
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

  /** What is asked can only be less than what the user may have. */
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

/** The scopes of a server. @throws KoinonError `unknown-table`. */
export function scopeSet<S extends Schema>(schema: Schema, scopes: Scopes<S> | undefined): ScopeSet {
  return new ScopeSet(schema, scopes as AnyScopes | undefined);
}

/** A column that a condition names and that is not among these. */
function unfilterable(filterable: readonly string[], condition: Condition): string | undefined {
  switch (condition.kind) {
    case 'and':
    case 'or':
      return condition.conditions.map((part) => unfilterable(filterable, part)).find((name) => name !== undefined);
    case 'not':
      return unfilterable(filterable, condition.condition);
    default:
      return condition.column === 'id' || filterable.includes(condition.column) ? undefined : condition.column;
  }
}
