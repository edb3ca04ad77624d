import type { Schema, Table } from '@koinon/core';
import { boundsDdl, boundsIn, boundsOf, constrainedColumnDdl, quoteName, widerBounds } from '@koinon/core/internal';
import { keptTables, type Mapping } from '../mapping.ts';
import type { Prepared } from './driver.ts';
import { isMapped } from './views.ts';

// A column that takes one more value, or none, than when its table was made: SQLite can change no rule of a table that is
// there, so the table is made anew, as its documentation says (https://www.sqlite.org/lang_altertable.html, 7).

/** A table while it is made anew. */
const made = 'koinon_remade';

/** A text in SQL. */
const text = "'(?:[^']|'')*'";

/** A text as a regular expression that finds it. */
const escaped = (text: string) => text.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');

/** A table that Koinon made, with rules that take what the schema takes by now; undefined where they do so already. */
function widened(sql: string, table: Table): string | undefined {
  let wider = sql;
  for (const [name, column] of table.entries) {
    const quoted = escaped(quoteName(name));
    const ranged = new RegExp(
      ` CONSTRAINT ${escaped(quoteName(`range of ${name}`))} CHECK \\((?<rule>(?:[^()]|\\([^()]*\\))*)\\)`,
    );
    wider = wider.replace(ranged, (...match) => {
      const { rule } = match.at(-1) as { readonly rule: string };
      return boundsDdl(name, column, widerBounds(boundsIn(rule), boundsOf(table, name)));
    });
    const required = constrainedColumnDdl(name, { ...column, optional: false });
    if (column.type !== 'one-of') {
      if (column.optional) wider = wider.replace(required, () => constrainedColumnDdl(name, column));
      continue;
    }
    const standing = new RegExp(
      `${quoted} TEXT(?<required> NOT NULL)? CHECK \\((?:${quoted} IS NULL OR )?${quoted} IN \\((?<texts>${text}(?:, ${text})*)\\)\\)`,
    );
    wider = wider.replace(standing, (...match) => {
      const groups = match.at(-1) as { readonly required?: string; readonly texts: string };
      const listed = [...groups.texts.matchAll(new RegExp(text, 'g'))].map(([each]) => unquoted(each));
      // Columns that are not in the schema any more may still stand in rows.
      const oneOf = [...new Set([...listed, ...(column.oneOf ?? [])])];
      return constrainedColumnDdl(name, { ...column, oneOf, optional: column.optional || !groups.required });
    });
  }
  return wider === sql ? undefined : wider;
}

const unquoted = (quoted: string) => quoted.slice(1, -1).replaceAll("''", "'");

/**
 * The statements that give the tables which Koinon made the rules of the schema, where those have become wider. To be run in a
 * transaction in which foreign keys are not enforced: a table that is made anew is gone for a moment.
 */
export function widenings(database: Prepared, schema: Schema, mapping: Mapping): string[] {
  return keptTables(schema).flatMap((name) => {
    const standing = database.get<{ sql: string }>(
      "SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ? AND (sql LIKE '%\"id\" TEXT PRIMARY KEY NOT NULL%STRICT' OR sql LIKE '%,\n  PRIMARY KEY (%STRICT')",
      name,
    );
    const sql = standing && !isMapped(mapping, name) ? widened(standing.sql, schema.tables[name] as Table) : undefined;
    if (sql === undefined) return [];
    const besides = database.all<{ sql: string }>(
      "SELECT sql FROM sqlite_schema WHERE type IN ('index', 'trigger') AND tbl_name = ? AND sql IS NOT NULL",
      name,
    );
    const [from, to] = [quoteName(name), quoteName(made)];
    return [
      // Otherwise what refers to the table that is gone would be in the way of the new one's name.
      'PRAGMA legacy_alter_table = on',
      sql.replace(/^CREATE TABLE\s+("(?:[^"]|"")*"|\S+?)(?=\s*\()/i, () => `CREATE TABLE ${to}`),
      `INSERT INTO ${to} SELECT * FROM ${from}`,
      `DROP TABLE ${from}`,
      `ALTER TABLE ${to} RENAME TO ${from}`,
      'PRAGMA legacy_alter_table = off',
      ...besides.map((each) => each.sql),
    ];
  });
}

/** Has the tables that Koinon made take what the schema takes by now. One transaction, or none of it. */
export function widenTables(database: Prepared, schema: Schema, mapping: Mapping): void {
  if (widenings(database, schema, mapping).length === 0) return;
  const { connection } = database;
  connection.exec('PRAGMA foreign_keys = off; BEGIN IMMEDIATE');
  try {
    // Another process may have done it meanwhile.
    for (const statement of widenings(database, schema, mapping)) connection.exec(statement);
    connection.exec('COMMIT');
  } catch (error) {
    connection.exec('ROLLBACK');
    throw error;
  } finally {
    connection.exec('PRAGMA legacy_alter_table = off; PRAGMA foreign_keys = on');
  }
}
