import { expectTypeOf, test } from 'vitest';
import {
  boolean,
  counter,
  type HeldTableName,
  integer,
  json,
  type NewRow,
  oneOf,
  type Patch,
  type Row,
  real,
  reference,
  schema,
  table,
  text,
  timestamp,
  type WritableTableName,
} from '../index.ts';
import type { Query } from '../query/query.ts';

const cooperative = schema({
  site: table({ name: text(), latitude: real({ optional: true }) }),
  hive: table({
    site: reference('site'),
    kind: oneOf(['log', 'frame']),
    strength: integer({ default: 5 }),
    sunny: boolean(),
    seenAt: timestamp({ optional: true }),
    label: json<{ color: string }>(),
    number: integer({ assigned: true }),
    frames: counter(),
  }),
});
type Cooperative = typeof cooperative;

test('rows have every column, null where it may be missing', () => {
  expectTypeOf<Row<Cooperative, 'site'>>().toEqualTypeOf<{
    readonly id: string;
    readonly name: string;
    readonly latitude: number | null;
  }>();
  expectTypeOf<Row<Cooperative, 'hive'>['kind']>().toEqualTypeOf<'log' | 'frame'>();
  expectTypeOf<Row<Cooperative, 'hive'>['label']>().toEqualTypeOf<{ color: string }>();
  expectTypeOf<Row<Cooperative, 'hive'>['number']>().toEqualTypeOf<number | null>();
});

test('a new row gives what is required and no column that is not there or not its own', () => {
  const given = { site: 's', kind: 'log', sunny: true, label: { color: 'red' } } as const;
  expectTypeOf(given).toExtend<NewRow<Cooperative, 'hive'>>();
  expectTypeOf({ site: 's', kind: 'log' } as const).not.toExtend<NewRow<Cooperative, 'hive'>>();
  expectTypeOf({ ...given, sunny: 'yes' } as const).not.toExtend<NewRow<Cooperative, 'hive'>>();
  // @ts-expect-error a column that is not there
  const misspelt: NewRow<Cooperative, 'hive'> = { ...given, strenght: 4 };
  // @ts-expect-error a value that is not listed
  const unlisted: Patch<Cooperative, 'hive'> = { kind: 'basket' };
  // @ts-expect-error only the server assigns it
  const assigned: Patch<Cooperative, 'hive'> = { number: 7 };
  // @ts-expect-error a counter is added to
  const counted: Patch<Cooperative, 'hive'> = { frames: 4 };
  void [misspelt, unlisted, assigned, counted];
});

test('queries know tables, columns and values', () => {
  const good: Query<Cooperative, 'hive'> = {
    from: 'hive',
    where: { strength: { '>': 3 }, or: [{ kind: 'log' }, { seenAt: null }] },
    order: ['kind', ['strength', 'desc']],
  };
  // @ts-expect-error text compared with a number column
  const wrongValue: Query<Cooperative, 'hive'> = { from: 'hive', where: { strength: { '>': 'three' } } };
  // @ts-expect-error an order by a column that is not there
  const wrongColumn: Query<Cooperative, 'hive'> = { from: 'hive', order: 'weight' };
  // @ts-expect-error a number has no beginning
  const wrongTest: Query<Cooperative, 'hive'> = { from: 'hive', where: { strength: { prefix: '3' } } };
  void [good, wrongValue, wrongColumn, wrongTest];
});

test('a row check is given the row’s own types', () => {
  table(
    { mark: text(), strength: integer({ optional: true }) },
    {
      check(row) {
        expectTypeOf(row.mark).toEqualTypeOf<string>();
        expectTypeOf(row.strength).toEqualTypeOf<number | null>();
        // @ts-expect-error a column that is not there
        return row.wieght === 1 ? [{ message: 'too light' }] : undefined;
      },
    },
  );
});

test('a key that the database gives cannot be given, and a table that only the office writes cannot be written', () => {
  const register = schema({
    order: table({ note: text() }, { assignedKey: true }),
    price: table({ cents: integer() }, { readOnly: true }),
    site: table({ name: text() }),
    plant: table({ name: text() }, { home: 'server' }),
  });
  type Register = typeof register;
  expectTypeOf<WritableTableName<Register>>().toEqualTypeOf<'order' | 'site'>();
  expectTypeOf<HeldTableName<Register>>().toEqualTypeOf<'order' | 'price' | 'site'>();
  expectTypeOf({ note: 'n' }).toExtend<NewRow<Register, 'order'>>();
  expectTypeOf({ id: '7', note: 'n' }).not.toExtend<NewRow<Register, 'order'>>();
  expectTypeOf({ id: '7', name: 'n' }).toExtend<NewRow<Register, 'site'>>();
});
