import { schema, table, text } from '@koinon/core';
import { parseWhere, predicateOf } from '@koinon/core/internal';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { type Watcher, Watchers } from './watchers.ts';

const { hive } = schema({ hive: table({ site: text(), queen: text() }) }).tables;

test('a change is offered to everybody whose condition the row has or had, and nothing is kept of those who left', () => {
  const name = fc.constantFrom('x', 'y', 'z');
  const where = fc.oneof(
    fc.constant({}),
    fc.record({ site: name }),
    fc.record({ site: name, queen: name }),
    fc.record({ queen: fc.record({ '!=': name }) }),
  );
  const row = fc.option(fc.record({ id: fc.constant('h'), site: name, queen: name }), { nil: null });
  fc.assert(
    fc.property(fc.array(where, { maxLength: 6 }), row, row, (conditions, before, after) => {
      const watchers = new Watchers();
      const [offered, flushed] = [new Set<number>(), new Set<number>()];
      const all = conditions.map((given, place): Watcher & { holds: (row: object) => boolean } => {
        const condition = parseWhere('hive', hive, given);
        return {
          tables: ['hive'],
          condition,
          offer: () => offered.add(place),
          flush: () => flushed.add(place),
          refresh: () => undefined,
          holds: predicateOf(condition) as (row: object) => boolean,
        };
      });
      for (const watcher of all) watchers.add(watcher);
      watchers.publish(
        [
          { table: 'hive', id: 'h', before, after },
          { table: 'site', id: 's', before, after },
        ],
        'device',
      );
      for (const [place, { holds }] of all.entries())
        if ([before, after].some((each) => each !== null && holds(each))) expect(offered).toContain(place);
      expect(flushed).toEqual(offered);
      for (const watcher of all) watchers.remove(watcher);
      expect([watchers.isEmpty, watchers.watches('hive')]).toEqual([true, false]);
    }),
  );
});
