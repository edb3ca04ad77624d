import { afterEach, expect, test, vi } from 'vitest';
import type { Request } from '../remote/messages.ts';
import { forgetUnfinished, keepUnfinished, unfinished } from './unfinished.ts';

afterEach(() => vi.unstubAllGlobals());

test('a call of a page that is left holds every kind of value that a row may have', () => {
  const kept: Record<string, unknown> = {};
  vi.stubGlobal(
    'localStorage',
    Object.defineProperties(kept, {
      setItem: { value: (key: string, text: string) => void Object.assign(kept, { [key]: text }) },
      getItem: { value: (key: string) => kept[key] },
      removeItem: { value: (key: string) => delete kept[key] },
    }),
  );
  const row = {
    photo: new Uint8Array([0, 255]),
    serial: 2n ** 63n - 1n,
    tags: ['a'],
    note: null,
    like: { b: 1, n: '2' },
  };
  const calls = [{ type: 'call', given: ['hive', row] }] as unknown as readonly Request[];
  keepUnfinished('hives', 'page', calls);
  expect(unfinished('hives')).toEqual([{ key: 'page', requests: calls }]);
  forgetUnfinished('hives', 'page');
  expect(unfinished('hives')).toEqual([]);
});
