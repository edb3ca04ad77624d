import { openReplica } from '@koinon/client';
import {
  bigInteger,
  date,
  decimal,
  decimalCounter,
  json,
  localDateTime,
  schema,
  table,
  text,
  time,
  timestamp,
} from '@koinon/core';
import { type Mapping, postgresStore, sqliteStore, startServer, writeRows } from '@koinon/server';
import { describe, expect, onTestFinished, test } from 'vitest';
import { storeKinds } from '../support/stores.ts';
import { World } from '../support/world.ts';

// Numbers with all their digits, and times that nobody shifts: in tables that Koinon makes, and in those of others.

const ledger = schema({
  account: table({ name: text(), balance: decimalCounter(12, 2), serial: bigInteger({ optional: true }) }),
  booking: table({
    account: text(),
    amount: decimal(12, 2, { minimum: '-1000.00' }),
    number: bigInteger({ minimum: 0n, default: 7n }),
    due: localDateTime({ optional: true }),
    opens: time({ optional: true }),
  }),
});

describe.each(storeKinds)('%s', (kind) => {
  test('tables of its own: sums are exact on devices and in the database, whoever adds; what is not exact is refused', async () => {
    const world = await World.inTest(ledger, kind);
    const shell = await world.shell();
    const [one, other] = [await world.replica(), await world.replica()];
    await one.insert('account', { id: 'a', name: 'honey', serial: 2n ** 63n - 1n });
    await one.sync();
    await other.sync();
    // A double makes 0.30000000000000004 of three of these, and loses the last digits of the large one.
    for (let n = 0; n < 30; n++) await (n % 2 === 0 ? one : other).add('account', 'a', 'balance', '0.1');
    await one.add('account', 'a', 'balance', '9999999990.07');
    for (const replica of [one, other, one]) await replica.sync();
    expect(await one.get('account', 'a')).toMatchObject({ balance: '9999999993.07', serial: 9223372036854775807n });
    for (const [account, amount] of ['0.1', '-0.1', '12', '-999.99', '0.20', '100000000.01'].entries())
      await other.insert('booking', { account: String(account % 2), amount });
    await shell.exec(
      kind === 'SQLite'
        ? "INSERT INTO booking VALUES ('office', '1', '7.25', 9007199254740993, '2026-05-01T09:30:00', '09:30:00.5')"
        : "INSERT INTO booking VALUES ('office', '1', 7.25, 9007199254740993, '2026-05-01 09:30', '09:30:00.500')",
    );
    await other.sync();
    await one.sync();
    expect(await one.get('booking', 'office')).toMatchObject({
      ...{ amount: '7.25', number: 9007199254740993n, due: '2026-05-01T09:30:00', opens: '09:30:00.5' },
    });
    const summed = {
      sum: ['sum', 'amount'],
      least: ['min', 'amount'],
      most: ['max', 'amount'],
      numbers: ['sum', 'number'],
      mean: ['avg', 'amount'],
    } as const;
    const [all] = await one.summary({ from: 'booking', measures: summed });
    expect(all).toMatchObject({ sum: '99999019.47', least: '-999.99', most: '100000000.01' });
    expect([all?.numbers, all?.mean]).toEqual([9007199254741035n, expect.closeTo(99999019.47 / 7, 6)]);
    const followed: unknown[] = [];
    const stop = one
      .liveSummary({ from: 'booking', by: ['number'], measures: { sum: ['sum', 'number'] } })
      .subscribe(({ rows }) => followed.push(rows));
    await expect
      .poll(() => followed.at(-1))
      .toEqual([
        { number: 7n, sum: 42n },
        { number: 9007199254740993n, sum: 9007199254740993n },
      ]);
    stop();
    const none = { from: 'booking', where: { amount: '5' }, measures: summed } as const;
    expect(await one.summary(none)).toEqual([{ sum: null, least: null, most: null, numbers: null, mean: null }]);
    const above = await one.rows({ from: 'booking', where: { amount: { '>': '7.250' } }, order: ['amount'] });
    expect(above.map(({ amount }) => amount)).toEqual(['12.00', '100000000.01']);
    for (const amount of ['1e3', '1.234', '12345678901', '-1000.01', ' 1', '1,5', '.5', 'NaN'])
      await expect(one.insert('booking', { account: '0', amount }), amount).rejects.toMatchObject({ column: 'amount' });
    await expect(one.add('account', 'a', 'balance', '1.005')).rejects.toMatchObject({ code: 'value-type' });
    await expect(one.add('account', 'a', 'balance', '1000000000')).rejects.toMatchObject({ code: 'value-range' });
    await expect(one.update('account', 'a', { serial: 2n ** 63n })).rejects.toMatchObject({ column: 'serial' });
    await expect(one.update('booking', 'office', { due: '2026-02-30T00:00' })).rejects.toMatchObject({ column: 'due' });
    // Another program's numbers of another form would not be found again.
    for (const amount of kind === 'SQLite' ? ["'7.5'", "'1e3'", "'-0.00'", "'07.25'"] : ['7.255', "'NaN'"])
      await expect(shell.exec(`UPDATE booking SET amount = ${amount}`), amount).rejects.toThrow();
    await expect(shell.exec("UPDATE booking SET opens = '24:00'")).rejects.toThrow();
  });

  test('tables of others: a column is read and written in the form and the zone that it has; what would be lost is named first', async () => {
    const visits = schema({
      visit: table({
        at: timestamp({ optional: true }),
        written: timestamp({ optional: true }),
        meeting: localDateTime({ optional: true }),
        day: date({ optional: true }),
        price: decimal(10, 2, { optional: true }),
        list: json<readonly string[]>({ optional: true }),
        note: text({ optional: true }),
        arrived: timestamp({ optional: true }),
      }),
    });
    const their = {
      SQLite: `CREATE TABLE calls (id TEXT PRIMARY KEY NOT NULL, at TEXT, written, meeting DATETIME, day DATE, price DECIMAL(10, 2), list TEXT, note TEXT, arrived TEXT);
        INSERT INTO calls VALUES ('a', '2026-07-01 11:30:00', 1782898200, '2026-07-01 11:30:00', '2026-07-01', 12.5, '["b","a","a"]', 'x', '2026-07-01T11:30:00'),
          ('b', '2026-12-01 11:30:00', 1796121000, NULL, NULL, 0.1, NULL, 'x', NULL)`,
      PostgreSQL: `CREATE TABLE calls (id text PRIMARY KEY, at timestamp(3), written timestamptz, meeting timestamp, day date, price numeric(10, 2), list text[], note text, arrived timestamp(3));
        INSERT INTO calls VALUES ('a', '2026-07-01 11:30:00', '2026-07-01T09:30:00Z', '2026-07-01 11:30:00', '2026-07-01', 12.5, '{b,a,a}', 'x', '2026-07-01 11:30:00'),
          ('b', '2026-12-01 11:30:00', '2026-12-01T10:30:00Z', NULL, NULL, 0.1, NULL, 'x', NULL)`,
    }[kind];
    const world = await World.inTest(schema({ unused: table({ note: text() }) }), kind);
    const shell = await world.shell();
    await shell.exec(their);
    const open = (columns: Required<Mapping[string]>['columns']) =>
      (kind === 'SQLite' ? sqliteStore : postgresStore)(visits, world.database.address, {
        mapping: { visit: { name: 'calls', columns } },
      });
    const zone = 'Europe/Berlin';
    const [at, written] =
      kind === 'SQLite'
        ? [{ zone, format: 'space-separated' } as const, { format: 'seconds' } as const]
        : [{ zone }, { lossy: true }];
    const meeting = kind === 'SQLite' ? { format: 'space-separated' as const } : 'meeting';
    await expect(open({ meeting })).rejects.toMatchObject({
      ...{
        code: 'schema-invalid',
        table: 'visit',
        message: expect.stringMatching(/at \(timestamp.*written \(timestamp.*arrived \(timestamp.*zone/),
      },
    });
    for (const wrong of [
      { at: { zone: 'Europe/Nowhere' } },
      { note: { zone } },
      { day: { format: 'seconds' as const } },
      { at: { zone, format: 'seconds' as const } },
      { at: { form: 'seconds' } as object },
    ])
      await expect(open(wrong)).rejects.toMatchObject({ code: 'schema-invalid', table: 'visit' });
    const arrived = { zone: 'UTC' };
    const store = await open({ at, written, meeting, arrived });
    const server = await startServer({ store, port: 0 });
    const [one, other] = await Promise.all([1, 2].map(() => openReplica({ schema: visits, server: server.url })));
    if (one === undefined || other === undefined) throw new Error('opened');
    onTestFinished(async () => {
      for (const each of [one, other, server]) await each.close();
    });
    await one.sync();
    // Summer and winter time of the zone; the meeting is at half past eleven wherever the device is.
    expect(await one.rows({ from: 'visit', order: 'id' })).toMatchObject([
      {
        ...{ at: '2026-07-01T09:30:00.000Z', written: '2026-07-01T09:30:00.000Z', meeting: '2026-07-01T11:30:00' },
        ...{ price: '12.50', list: ['b', 'a', 'a'], arrived: '2026-07-01T11:30:00.000Z' },
      },
      { at: '2026-12-01T10:30:00.000Z', written: '2026-12-01T10:30:00.000Z', price: '0.10' },
    ]);
    await one.update('visit', 'a', { note: 'only this' });
    await one.update('visit', 'b', { at: '2026-03-29T01:00:00.000Z', written: '2026-03-29T01:00:00.000Z' });
    await one.update('visit', 'b', { meeting: '2026-03-29T02:30', price: '99999999.99', list: ['z', 'z', 'a'] });
    await one.update('visit', 'b', { arrived: '2026-07-01T11:30:01.250Z' });
    await one.insert('visit', { id: 'c', at: '2026-07-01T09:30:00.000Z', list: [] });
    expect((await one.sync()).up).toMatchObject({ applied: 5, rejected: 0 });
    await writeRows(store, [{ kind: 'update', table: 'visit', id: 'c', columns: { price: '3.10' } }]);
    await other.sync();
    await one.sync();
    expect(await other.rows({ from: 'visit', order: 'id' })).toEqual(await one.rows({ from: 'visit', order: 'id' }));
    expect(await one.get('visit', 'c')).toMatchObject({ at: '2026-07-01T09:30:00.000Z', price: '3.10', list: [] });
    const asText = ['at', 'written', 'meeting', 'price', 'list', 'note'].map(
      (name) => `CAST(${name} AS TEXT) AS ${name}`,
    );
    const held = await shell.all(`SELECT ${asText.join(', ')} FROM calls ORDER BY id`);
    expect(held).toMatchObject(
      kind === 'SQLite'
        ? [
            {
              at: '2026-07-01 11:30:00',
              written: '1782898200',
              price: '12.5',
              list: '["b","a","a"]',
              note: 'only this',
            },
            { at: '2026-03-29 03:00:00', written: '1774746000', meeting: '2026-03-29 02:30:00', price: '99999999.99' },
            { at: '2026-07-01 11:30:00', written: null, price: '3.1', list: '[]' },
          ]
        : [
            { at: '2026-07-01 11:30:00', price: '12.50', list: '{b,a,a}', note: 'only this' },
            { at: '2026-03-29 03:00:00', meeting: '2026-03-29 02:30:00', price: '99999999.99', list: '{z,z,a}' },
            { at: '2026-07-01 11:30:00', written: null, price: '3.10', list: '{}' },
          ],
    );
    const came = await shell.all("SELECT CAST(arrived AS TEXT) AS arrived FROM calls WHERE id = 'b'");
    expect(came).toEqual([
      { arrived: `2026-07-01${kind === 'SQLite' ? 'T' : ' '}11:30:01.25${kind === 'SQLite' ? '0' : ''}` },
    ]);
    // A deleted row comes back with the same values: its tombstone is read as its table is.
    await one.delete('visit', 'a');
    await one.sync();
    await other.sync();
    await other.restore('visit', 'a');
    await other.sync();
    expect(await shell.all(`SELECT ${asText.join(', ')} FROM calls WHERE id = 'a'`)).toEqual(held.slice(0, 1));
  });
});
