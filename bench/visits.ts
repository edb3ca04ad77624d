import type { SqlDriver } from '@koinon/client';
import { integer, oneOf, real, schema, table, text, timestamp } from '@koinon/core';
import { createTable } from '@koinon/core/internal';

/** A visit to a hive, without references, so that the floor need not check them either. */
export const visits = schema({
  visit: table({
    hive: text({ index: true }),
    at: timestamp(),
    brood: oneOf(['none', 'patchy', 'even']),
    mites: integer({ minimum: 0 }),
    weight: real({ optional: true }),
    notes: text({ optional: true }),
  }),
});
export type Visits = typeof visits;

/** A visit by its number. */
export const visit = (n: number, kind = 'v') => ({
  id: `${kind}-${String(n).padStart(9, '0')}`,
  hive: `hive-${n % 997}`,
  at: '2026-06-01T10:00:00.000Z',
  brood: 'even' as const,
  mites: n % 20,
  weight: 20 + (n % 300) / 10,
  notes: n % 3 === 0 ? 'calm, super added' : null,
});

/** The columns of a visit, as the floor writes and reads them. */
export const columns = ['id', 'hive', 'at', 'brood', 'mites', 'weight', 'notes'] as const;
/** How the floor adds a visit. */
export const insertSql = `INSERT INTO visit (${columns.join(', ')}) VALUES (?, ?, ?, ?, ?, ?, ?)`;
const valuesOf = (row: ReturnType<typeof visit>) => columns.map((name) => row[name]);

/** Makes the floor's tables: the rows, and a queue of what is to be sent. @param create as Koinon makes them on a device, or on a server. */
export function prepareBare(bare: SqlDriver, create: typeof createTable = createTable): void {
  for (const statement of create('visit', visits.tables.visit)) bare.exec(statement);
  bare.exec('CREATE TABLE queue (sequence INTEGER PRIMARY KEY, change TEXT NOT NULL)');
}

/** Adds visits that are not queued. */
export function fill(driver: SqlDriver, size: number): void {
  const insert = driver.prepare(insertSql);
  driver.exec('BEGIN');
  for (let n = 0; n < size; n++) insert.run(...valuesOf(visit(n)));
  driver.exec('COMMIT');
}

/** The least correct queued write: the row and a queue row in one transaction. */
export function bareWriter(bare: SqlDriver) {
  const insert = bare.prepare(insertSql);
  const queue = bare.prepare('INSERT INTO queue (change) VALUES (?)');
  const begin = bare.prepare('BEGIN IMMEDIATE');
  const commit = bare.prepare('COMMIT');
  return {
    all(rows: readonly ReturnType<typeof visit>[]) {
      begin.run();
      for (const row of rows) {
        insert.run(...valuesOf(row));
        queue.run(JSON.stringify(row));
      }
      commit.run();
    },
  };
}
