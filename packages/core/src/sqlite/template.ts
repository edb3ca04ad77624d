import { KoinonError, shown } from '../errors/errors.ts';
import type { SqlValue } from '../values/sql.ts';
import type { Sql } from './select.ts';

/** A value that a template may bind: what SQLite stores, booleans, and other templates, whose text is put in. */
export type Bindable = SqlValue | boolean | Sql;

/**
 * Plain SQL with its values bound, never spliced into the text. For joins, aggregates and window functions; reading only.
 *
 * @example
 * sql`SELECT hive, avg(weight) AS mean FROM visit WHERE at >= ${since} GROUP BY hive`
 */
export function sql(texts: TemplateStringsArray, ...given: readonly Bindable[]): Sql {
  let text = texts[0] as string;
  const values: SqlValue[] = [];
  given.forEach((value, i) => {
    if (value !== null && typeof value === 'object' && 'text' in value) {
      text += value.text;
      values.push(...value.values);
    } else {
      text += '?';
      values.push(boundValue(value as SqlValue | boolean));
    }
    text += texts[i + 1];
  });
  return Object.freeze({ text, values: Object.freeze(values) });
}

function boundValue(value: SqlValue | boolean): SqlValue {
  if (typeof value === 'boolean') return value ? 1 : 0;
  const fits =
    value === null ||
    typeof value === 'string' ||
    (typeof value === 'number' && Number.isFinite(value)) ||
    value instanceof Uint8Array;
  if (fits) return value;
  throw new KoinonError(
    'query-invalid',
    `SQL can bind text, finite numbers, booleans, bytes and null, not ${shown(value)}.`,
    { value },
  );
}
