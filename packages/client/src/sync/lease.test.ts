import { schema, table, text } from '@koinon/core';
import { expect, test } from 'vitest';
import { create } from '../database/create.ts';
import { Database } from '../database/database.ts';
import { openNodeDriver } from '../driver/node.ts';
import { systemHost } from '../host/host.ts';
import { endLease, syncOwner, takeLease } from './lease.ts';

test('one process syncs a file: until it ends, falls silent or is killed, whatever its clock says', async () => {
  const database = new Database(await openNodeDriver({ file: ':memory:' }));
  database.transact(() => create(database, schema({ hive: table({ mark: text() }) })));
  let now = 1_000_000;
  const alive = new Set(['one', 'two']);
  const hostOf = (process: string) => ({
    ...systemHost,
    process,
    now: () => now,
    isAlive: (name: string) => alive.has(name),
  });
  const [one, two] = [hostOf('one'), hostOf('two')];
  const busy = { code: 'sync-busy', value: 'one' };
  const take = (host: typeof one, holder: string) => () => database.transact(() => takeLease(database, host, holder));

  take(one, 'a')();
  expect(take(two, 'b')).toThrow(expect.objectContaining(busy));
  // It tells again at the steps of its sync, and keeps the file by that.
  now += 50_000;
  take(one, 'a')();
  now += 50_000;
  expect(take(two, 'b')).toThrow(expect.objectContaining(busy));
  // Silent for a minute.
  now += 10_001;
  expect(syncOwner(database, two)).toBe(null);
  take(two, 'b')();
  expect(syncOwner(database, one)).toBe('two');
  // Killed.
  alive.delete('two');
  take(one, 'a')();
  // Its clock was set back by a day: the end that it wrote says nothing.
  now -= 86_400_000;
  expect(syncOwner(database, hostOf('three'))).toBe(null);
  take(one, 'a')();
  // Only who has it gives it up.
  endLease(database, 'b');
  expect(syncOwner(database, one)).toBe('one');
  endLease(database, 'a');
  expect(syncOwner(database, one)).toBe(null);
  database.close();
});
