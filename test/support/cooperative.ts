import { openReplica, type Replica } from '@koinon/client';
import { action, counter, integer, oneOf, reference, schema, setOfText, table, text } from '@koinon/core';
import { type Rules, serveInProcess, sqliteStore } from '@koinon/server';

/** The cooperative’s schema. */
export const cooperative = schema(
  {
    site: table({ name: text() }),
    hive: table({
      site: reference('site', { filterable: true }),
      mark: text({ merge: 'ask' }),
      strength: integer({ default: 5 }),
      frames: counter(),
      queen: oneOf(['marked', 'missing'], { default: 'marked' }),
      tags: setOfText(),
    }),
  },
  {
    settings: { units: oneOf(['kg', 'lb'], { default: 'kg' }) },
    actions: {
      moveHive: action({
        input: { hive: reference('hive'), to: reference('site') },
        result: { number: integer() },
      }),
    },
  },
);
const rules: Rules<typeof cooperative> = {
  hive: { validate: ({ after }) => (after?.mark === 'none' ? [{ column: 'mark', message: 'is no mark' }] : undefined) },
};

/** Work with a replica that has a row of each status: the hive `c` is in conflict, `r` was refused, `h` has an edit that is not sent. */
export async function withHives(
  file: string,
  work: (replica: Replica<typeof cooperative>) => Promise<void>,
): Promise<void> {
  const store = await sqliteStore(cooperative, file);
  const server = serveInProcess({ store, rules });
  const open = () => openReplica({ schema: cooperative, server: server.connect() });
  const [replica, other] = [await open(), await open()];
  await replica.insert('site', { id: 's', name: 'Marrowfen' });
  await replica.insertAll(
    'hive',
    ['h', 'c', 'r'].map((id) => ({ id, site: 's', mark: id, tags: ['swarmed'] })),
  );
  for (const each of [replica, other]) await each.sync();
  await other.update('hive', 'c', { mark: 'C east' });
  await other.sync();
  await replica.update('hive', 'c', { mark: 'C west' });
  await replica.update('hive', 'r', { mark: 'none' });
  await replica.sync();
  await replica.update('hive', 'h', { strength: 3 });
  await work(replica);
  for (const each of [replica, other, server, store]) await each.close();
}
