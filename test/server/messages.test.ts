import { openReplica } from '@koinon/client';
import {
  boolean,
  bytes,
  counter,
  date,
  integer,
  type KoinonError,
  oneOf,
  type Problem,
  real,
  reference,
  schema,
  setOfText,
  table,
  text,
  timestamp,
} from '@koinon/core';
import { english, german, messageIn } from '@koinon/core/messages';
import { expect, test } from 'vitest';
import { storeKinds } from '../support/stores.ts';
import { World } from '../support/world.ts';

// What a device and a server refuse is made by named sentences: in English as it stands, in another language with its own labels.

const apiary = schema({
  site: table({ name: text({ label: 'name', unique: true }) }, { label: 'site', namedBy: 'name' }),
  hive: table(
    {
      site: reference('site', { label: 'site', filterable: true }),
      mark: text({ label: 'mark', minimumLength: 1, maximumLength: 4 }),
      mites: integer({ optional: true, minimum: 0, maximum: 40 }),
      weight: real({ optional: true }),
      queen: oneOf(['marked', 'missing'], { default: 'marked' }),
      sunny: boolean({ default: true }),
      seen: timestamp({ optional: true }),
      born: date({ optional: true }),
      picture: bytes({ optional: true, maximumLength: 4 }),
      frames: counter({ minimum: 0 }),
      tags: setOfText(),
      number: integer({ assigned: true }),
    },
    { label: 'hive', namedBy: 'mark' },
  ),
  member: table({ name: text() }),
});
const labels = {
  tables: {
    site: { label: 'Standort', columns: { name: { label: 'Name' } } },
    hive: { label: 'Volk', columns: { mark: { label: 'Kennzeichen' }, site: { label: 'Standort' } } },
  },
};
const uuid = (n: number) => `00000000-0000-4000-8000-${n.toString(16).padStart(12, '0')}`;
const hive = { site: 's', mark: 'A1' };

/** Columns of a hive, each of them wrong. */
const wrong: readonly object[] = [
  ...[{ mark: 7 }, { mark: '' }, { mark: 'A1 by the gate' }, { mark: 'a\0' }, { mark: '\ud800' }, { mark: null }],
  ...[{ mites: 41 }, { mites: -1 }, { mites: 1.5 }, { weight: 'heavy' }, { queen: 'lost' }, { sunny: 1 }, { site: '' }],
  ...[{ seen: 'today' }, { born: '2026-02-30' }, { picture: 'x' }, { picture: new Uint8Array(5) }, { colour: 'red' }],
  ...[{ frames: -1 }, { tags: 'x' }, { tags: ['x', 'x'] }, { number: 7 }, { id: '' }, { id: 'x'.repeat(201) }],
];

test.each(storeKinds)(
  '%s: every problem says in English what its sentence says, and has one in German',
  async (kind) => {
    const users = { authenticate: (token: string) => ({ id: token, claims: {} }) };
    const world = await World.inTest(apiary, kind, {
      ...users,
      scopes: { site: { read: 'all' }, hive: { read: () => ({ site: 's' }) }, member: { read: 'none' } },
      rules: {
        hive: {
          before: ({ after }) => {
            if (after?.mark === 'B9') throw new Error('no');
          },
        },
      },
    });
    const problems: Problem[] = [];
    const replica = await openReplica({ schema: apiary });
    const device = async (call: Promise<unknown>) => {
      const error = (await call.then(
        () => undefined,
        (failure) => failure,
      )) as KoinonError | undefined;
      problems.push(...(error?.problems ?? []));
    };
    await replica.insert('site', { id: 's', name: 'Tolver Down' });
    await replica.insert('hive', { id: 'h', ...hive });
    for (const columns of wrong) await device(replica.insert('hive', { ...hive, ...columns } as never));
    await device(replica.insert('hive', { mark: 'A2' } as never));
    await device(replica.insert('hive', { ...hive, site: 'nowhere' }));
    await device(replica.insert('hive', { ...hive, site: uuid(1) }));
    await device(replica.insert('site', { name: 'Tolver Down' }));
    await device(replica.delete('site', 's'));
    await replica.close();

    let count = 0;
    const push = async (changes: readonly object[], more: object = {}) => {
      const transaction = { id: uuid(++count), editedAt: '2026-06-01T10:00:00.000Z', dependsOn: [], changes, ...more };
      const send = async () => {
        const answer = await fetch(`${world.server.url}/v1/push`, {
          method: 'POST',
          headers: { 'content-type': 'application/json', authorization: 'Bearer ida' },
          body: JSON.stringify({ replica: uuid(900), base: null, transactions: [transaction] }),
        });
        return ((await answer.json()) as { outcomes: { problems?: Problem[] }[] }).outcomes;
      };
      const outcomes = await send();
      // The answer may be lost: sent again, the same is told, parts and all.
      expect(await send()).toEqual(outcomes);
      problems.push(...(outcomes[0]?.problems ?? []));
    };
    const insert = (name: string, id: string, columns: object) => ({ kind: 'insert', table: name, id, columns });
    await push([insert('site', 's', { name: 'Tolver Down' }), insert('hive', 'h', hive)]);
    expect(problems.filter(({ sentence }) => sentence === undefined)).toEqual([]);
    await push([insert('hive', 'n', { ...hive, mites: 41 })]);
    await push([insert('hive', 'n', { ...hive, site: 'nowhere' })]);
    await push([insert('hive', 'n', { ...hive, mark: 'B9' })]);
    await push([insert('bee', 'n', {})]);
    await push([insert('hive', 'n', { ...hive, colour: 'red' })]);
    await push([insert('member', 'm', { name: 'Ida' })]);
    await push([{ kind: 'update', table: 'hive', id: uuid(2), columns: { mites: 1 }, operations: {} }]);
    await push([insert('site', 't', { name: 'Tolver Down' })]);
    const shell = await world.shell();
    await shell.exec(
      kind === 'SQLite'
        ? "CREATE TRIGGER keep BEFORE INSERT ON hive WHEN new.mark = 'C1' BEGIN SELECT RAISE(ABORT, 'C1 is kept.'); END"
        : "CREATE FUNCTION keep() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE 'C1 is kept.'; END $$; CREATE TRIGGER keep BEFORE INSERT ON hive FOR EACH ROW WHEN (new.mark = 'C1') EXECUTE FUNCTION keep()",
    );
    await push([insert('hive', 'n', { ...hive, mark: 'C1' })]);

    const said = new Map(problems.map((problem) => [problem.sentence, messageIn(german, problem, labels)]));
    for (const problem of problems) {
      expect(problem.sentence, problem.message).toBeDefined();
      expect(messageIn(english, problem, apiary)).toBe(problem.message);
      const translated = messageIn(german, problem, labels);
      expect(translated, problem.message).not.toMatch(/[{}]|undefined/);
      if (problem.sentence !== 'value-refused') expect(translated).not.toBe(problem.message);
    }
    expect(said.size).toBeGreaterThan(12);
    expect(Object.fromEntries(said)).toMatchObject({
      'duplicate-value': 'Name "Tolver Down" ist schon vergeben (Standort).',
      'row-refused-because': 'Volk "n" wurde von einer Regel der Datenbank abgelehnt: C1 is kept.',
    });
    expect(messageIn(german, { code: 'row-check', message: 'is before it was bought' }, labels)).toMatch('is before');
    const endless = { code: 'no-such-reference', message: 'x', sentence: 'no-such-reference' } as const;
    expect(messageIn(german, { ...endless, parameters: { missing: 'no-such-reference' } }, labels)).toBe('x');
    expect(messageIn(german, { code: 'storage-full', message: 'x' }, labels)).toMatch('Speicher');
  },
);

test('a translation puts in what the sentence has, and nothing else', () => {
  const parts = (text: string) => [...text.matchAll(/\{\w+\}/g)].map(String);
  for (const [name, text] of Object.entries(german))
    expect(parts(english[name as keyof typeof english]), name).toEqual(expect.arrayContaining(parts(text)));
});
