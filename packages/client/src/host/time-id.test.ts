import { expect, test } from 'vitest';
import { timeId } from './time-id.ts';

test('ids are UUIDs of version 7 that carry their time, sort as they were made, and never repeat, whatever the clock does', () => {
  const start = Date.UTC(2026, 5, 1);
  const times = Array.from({ length: 5_000 }, (_, n) => start + Math.floor(n / 40) - (n % 7 === 0 ? 10_000 : 0));
  const ids = times.map((time) => timeId(time));
  for (const id of ids) expect(id).toMatch(/^[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/);
  expect(new Set(ids).size).toBe(ids.length);
  expect([...ids].sort()).toEqual(ids);
  const last = ids.at(-1)?.replaceAll('-', '').slice(0, 12);
  expect(Number.parseInt(last as string, 16)).toBe(Math.max(...times));
});
