import { createHash } from 'node:crypto';
import type { AnyRow, Condition, Scope, WireColumns } from '@koinon/core';
import { everything, type Predicate, predicateOf } from '@koinon/core/internal';
import { LRUCache } from 'lru-cache';
import stringify from 'safe-stable-stringify';

/** The condition that no row fulfils. */
export const nothing: Condition = { kind: 'or', conditions: [] };

/** Tells whether no row fulfils a condition, by its form. */
export const isNothing = (condition: Condition) => condition.kind === 'or' && condition.conditions.length === 0;
const isEverything = (condition: Condition) => condition.kind === 'and' && condition.conditions.length === 0;
const isSame = (a: Condition, b: Condition) => stringify(a) === stringify(b);

/** The rows that fulfil one condition and not the other. */
export function minus(condition: Condition, other: Condition): Condition {
  if (isNothing(other)) return condition;
  if (isSame(condition, other)) return nothing;
  // If both ask for the same, only the rest can tell them apart.
  const asked = other.kind === 'and' ? other.conditions : [other];
  const rest = intersection(asked.filter((each) => !isSame(each, condition)));
  if (isNothing(condition) || isEverything(rest)) return nothing;
  return { kind: 'and', conditions: [condition, { kind: 'not', condition: rest }] };
}

/** The rows that fulfil any of these conditions. */
export function union(conditions: readonly Condition[]): Condition {
  // Parts of parts are parts, each of them once: what a scope has gained to is then seen to be the scope.
  const parts = conditions.flatMap((condition) => (condition.kind === 'or' ? condition.conditions : [condition]));
  if (parts.some(isEverything)) return everything;
  const some = [...new Map(parts.map((part) => [stringify(part), part])).values()];
  return some.length === 1 ? (some[0] as Condition) : { kind: 'or', conditions: some };
}

/** The rows that fulfil all of these conditions. */
export function intersection(conditions: readonly Condition[]): Condition {
  const some = conditions.filter((condition) => !isEverything(condition));
  const distinct = some.filter((condition, i) => !some.slice(0, i).some((before) => isSame(before, condition)));
  return distinct.length === 1 ? (distinct[0] as Condition) : { kind: 'and', conditions: distinct };
}

/** A scope, ready to be asked which rows and columns are in it. */
export class View {
  readonly scope: Scope;
  /** The same for scopes that are the same. */
  readonly scopeDigest: string;
  /** The same for views that are: of the same scope, by apps that know the same columns. */
  readonly digest: string;
  /** Tells whether it is all there is. */
  readonly isWhole: boolean;
  private readonly predicates = new Map<string, Predicate | undefined>();
  private readonly hidden = new Map<string, ReadonlySet<string>>();
  private readonly known: ReadonlyMap<string, ReadonlySet<string>> | undefined;

  constructor(scope: Scope, digest: string, known?: Readonly<Record<string, readonly string[]>>) {
    this.scope = scope;
    this.scopeDigest = digest;
    this.digest = known === undefined ? digest : `${digest} ${digestOf(known)}`;
    this.known = known && new Map(Object.entries(known).map(([table, names]) => [table, new Set(names)]));
    this.isWhole = Object.keys(scope).length === 0;
    for (const [table, { where, without }] of Object.entries(scope)) {
      this.predicates.set(table, where && predicateOf(where));
      if (without) this.hidden.set(table, new Set(without));
    }
  }

  /** The condition that its rows of a table fulfil. */
  where(table: string): Condition {
    return (Object.hasOwn(this.scope, table) ? this.scope[table]?.where : undefined) ?? everything;
  }

  /** Tells whether all rows of a table are in it. */
  hasAll(table: string): boolean {
    return this.predicates.get(table) === undefined;
  }

  /** Tells whether a row is in it, by the values of its filterable columns. */
  has(table: string, id: string, values: WireColumns | Omit<AnyRow, 'id'>): boolean {
    const predicate = this.predicates.get(table);
    // Values from JSON and from SQL look alike in the types that are filterable.
    return predicate === undefined || predicate({ ...values, id } as AnyRow);
  }

  /** The columns of a table that are left out. */
  without(table: string): ReadonlySet<string> | undefined {
    return this.hidden.get(table);
  }

  /** The columns of a row that are in it. */
  columns<Value>(table: string, columns: Readonly<Record<string, Value>>): Readonly<Record<string, Value>> {
    const hidden = this.hidden.get(table);
    const known = this.known?.get(table);
    if (hidden === undefined && known === undefined) return columns;
    const isIn = (name: string) => hidden?.has(name) !== true && (known === undefined || known.has(name));
    // Mostly all of them are: such a row is not built anew.
    for (const name in columns)
      if (!isIn(name)) return Object.fromEntries(Object.entries(columns).filter(([one]) => isIn(one)));
    return columns;
  }

  /** Tells whether whoever looks knows a table at all. */
  knows(table: string): boolean {
    return this.known === undefined || this.known.has(table);
  }

  /** The same, for an app that knows only these columns of these tables. */
  knowing(known: Readonly<Record<string, readonly string[]>>): View {
    return new View(this.scope, this.scopeDigest, known);
  }
}

/** The view of everything. */
export const whole = new View({}, 'everything');

/** Views kept ready, by the characters of their scopes: what a view takes in memory is some ten times that. */
const keptViews = { max: 5_000, maxSize: 4_000_000, maxEntrySize: 500_000 };

const views = new LRUCache<string, View>(keptViews);

/** The view of a scope; the one that is kept ready, where {@link keptViewOf} has made one. */
export function viewOf(scope: Scope | undefined): View {
  if (scope === undefined || Object.keys(scope).length === 0) return whole;
  const digest = digestOf(scope);
  return views.get(digest) ?? new View(scope, digest);
}

/** The view of a scope that a server's own rules have made, kept ready. One that a request has narrowed is not worth keeping. */
export function keptViewOf(scope: Scope): View {
  if (Object.keys(scope).length === 0) return whole;
  const text = stringify(scope) as string;
  const digest = digestOfText(text);
  const view = views.get(digest) ?? new View(scope, digest);
  views.set(digest, view, { size: text.length });
  return view;
}

const digestOfText = (text: string): string => createHash('sha256').update(text).digest('base64url');

const digestOf = (value: unknown): string => digestOfText(stringify(value) as string);
