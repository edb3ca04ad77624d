/** The tables of a replica whose schema has actions. */
export const actionTables = [
  // The changes that an action is expected to make: `action` is its place in the outbox, `sequence` that of its transaction.
  `CREATE TABLE IF NOT EXISTS koinon_prediction (
  place INTEGER PRIMARY KEY,
  action INTEGER NOT NULL,
  sequence INTEGER NOT NULL,
  kind TEXT NOT NULL,
  table_name TEXT NOT NULL,
  row_id TEXT NOT NULL,
  columns TEXT,
  operations TEXT
)`,
  // The predicted values that a change of the outbox, by its place, was typed on top of.
  `CREATE TABLE IF NOT EXISTS koinon_predicted_over (
  place INTEGER PRIMARY KEY,
  sequence INTEGER NOT NULL,
  before TEXT NOT NULL
)`,
  // Calls of actions that the server has carried out, with their results, kept for some days.
  `CREATE TABLE IF NOT EXISTS koinon_invocation (
  place INTEGER PRIMARY KEY,
  id TEXT NOT NULL UNIQUE,
  name TEXT NOT NULL,
  input TEXT NOT NULL,
  transaction_id TEXT NOT NULL,
  invoked_at INTEGER NOT NULL,
  applied_at INTEGER NOT NULL,
  result TEXT
)`,
].join(';');
