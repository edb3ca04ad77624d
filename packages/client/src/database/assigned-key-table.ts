/** The table of a replica that keeps, for some days, under which id a row was made whose key the database gave. */
export const assignedKeyTable = `CREATE TABLE IF NOT EXISTS koinon_assigned_key (
  table_name TEXT NOT NULL,
  provisional TEXT NOT NULL,
  row_id TEXT NOT NULL,
  assigned_at INTEGER NOT NULL,
  PRIMARY KEY (provisional, table_name)
) WITHOUT ROWID`;
