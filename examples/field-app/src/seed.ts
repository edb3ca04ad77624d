import { type cooperative, demoRows } from '@koinon/cli';
import type { Transaction } from '@koinon/client';

/** Fills a new field book with the demo data: parents before children, all in one transaction. */
export async function fill(transaction: Transaction<typeof cooperative>): Promise<void> {
  const rows = demoRows();
  await transaction.insertAll('member', rows.member);
  await transaction.insertAll('site', rows.site);
  await transaction.insertAll('hive', rows.hive);
  await transaction.insertAll('visit', rows.visit);
  await transaction.insertAll('harvest', rows.harvest);
}
