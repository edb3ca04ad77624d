import type { Transaction } from '@koinon/client';
import { demoRows } from '@koinon/demo';
import type { field } from './schema.ts';

/** The members alone: somebody has to be a site's keeper. */
export async function fillMembers(transaction: Transaction<typeof field>): Promise<void> {
  await transaction.insertAll('member', demoRows().member);
}

/** Fills a new field book with the demo data: parents before children, all in one transaction. */
export async function fill(transaction: Transaction<typeof field>, visits: number): Promise<void> {
  const rows = demoRows();
  await transaction.insertAll('member', rows.member);
  await transaction.insertAll('site', rows.site);
  await transaction.insertAll('hive', rows.hive);
  // Beyond the demo's visits the same ones come again, under other ids.
  const { visit } = rows;
  const all = Array.from({ length: visits }, (_, n) => ({ ...(visit[n % visit.length] as (typeof visit)[number]), n }));
  await transaction.insertAll(
    'visit',
    all.map(({ n, id, ...row }) => ({ ...row, id: n < visit.length ? id : `${id}-${n}` })),
  );
  await transaction.insertAll('harvest', rows.harvest);
  await transaction.insertAll('tool', rows.tool);
}
