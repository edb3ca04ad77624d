import { openSource } from '@koinon/client/sources';
import { KoinonError } from '@koinon/core';
import type { Device } from './device.ts';
import { type Row, Violation, withLine } from './ledger.ts';
import { newNotes } from './schema.ts';
import type { Performs, Stage } from './stage.ts';
import { hives } from './surroundings.ts';

// The rows that a device asks for at run time, those that only the server has, and those of a service of others.

type Kind =
  | 'hold'
  | 'let go'
  | 'new hive for two'
  | 'ask for plants'
  | 'office plants'
  | 'new weather'
  | 'refresh weather';

/** Names of holdings. */
const names = ['this week', 'next week', 'to lend'];

/** The weather by a service that somebody else runs: each version has some rows, which belong together. */
export interface Weather {
  version: number;
}

/** The rows of one version of the weather. */
export const weatherOf = (version: number) =>
  Array.from({ length: version % 3 }, (_, n) => ({ id: `place ${n}`, version, degrees: version * 10 + n }));

export const onDemand: Performs<Kind> = {
  async hold(stage, device, { a, b }) {
    if (!device.isPartial) return;
    const name = names[b % names.length] as string;
    const ids = [`h${a % hives}`, ...(b % 2 ? [`h${(a + 1) % hives}`] : [])].sort();
    await holding(stage, device, () => device.replica.hold(name, { from: 'hive', where: { id: { in: ids } } }), {
      name,
      ids,
    });
  },
  async 'let go'(stage, device, { b }) {
    if (!device.isPartial) return;
    const name = names[b % names.length] as string;
    await holding(stage, device, () => device.replica.letGo(name), { name });
  },
  async 'new hive for two'(stage, device, chance) {
    // A hive is made and sent. The office writes it, or deletes it, and its maker goes on with it before the next pull.
    const { ground, ledger } = stage;
    const id = `n${device.index}-${stage.newNumber()}`;
    const [n, notes] = [ledger.acts.length, newNotes];
    await stage.act(device, {}, () => device.replica.insert('hive', { id, site: 's', title: `#${n}`, notes }));
    await stage.until(device.replica.sync({ direction: 'push' }));
    if (!(await ground.rows('hive')).some((row) => row.id === id)) return;
    const isDeleted = chance.b % 2 === 0;
    if (isDeleted) ledger.disturbed.add(id);
    else ledger.officeLines.set(id, `office ${n}`);
    await ground.write(
      isDeleted
        ? `DELETE FROM hive WHERE id = '${id}'`
        : `UPDATE hive SET notes = notes || '\noffice ${n}' WHERE id = '${id}'`,
    );
    const token = `#${ledger.acts.length}`;
    // A row that a device does not ask for is gone where somebody else has deleted it.
    const remakes = isDeleted && !device.isPartial;
    await stage.act(device, { own: { hive: id, token }, line: { hive: id, token }, remakes }, () =>
      device.replica.update('hive', id, {
        [`own${device.index}`]: token,
        notes: withLine(newNotes, device.index, token),
      } as never),
    );
  },
  async 'ask for plants'(stage, device, { b, c }) {
    device.fates = b % 4 === 0 ? ['lost reply'] : [];
    const most = c % 3;
    const query = { from: 'plant', where: { month: { '>=': most } }, order: ['id'] } as const;
    const [found, count] = [
      await stage.until(device.replica.rows(query)),
      await stage.until(device.replica.count({ from: 'plant', where: { month: { '>=': most } } })),
    ];
    device.fates = [];
    const there = (await plants(stage)).filter(({ month }) => Number(month) >= most);
    if (found !== undefined && JSON.stringify(found) !== JSON.stringify(there))
      throw new Violation(
        `${device.process} was told of the plants ${JSON.stringify(found)}, and there are ${JSON.stringify(there)}`,
      );
    if (count !== undefined && count !== there.length)
      throw new Violation(`${device.process} was told of ${count} plants, and there are ${there.length}`);
  },
  'office plants': ({ ground }, _device, { a, b }) =>
    ground.write(
      b % 3 === 0
        ? `DELETE FROM plant WHERE id = 'p${a}'`
        : `DELETE FROM plant WHERE id = 'p${a}'; INSERT INTO plant (id, name, month) VALUES ('p${a}', 'plant ${b}', ${b % 5})`,
    ) ?? Promise.resolve(),
  async 'new weather'({ weather }) {
    weather.version++;
  },
  async 'refresh weather'(stage, device, { b, c }) {
    const { version } = stage.weather;
    const isTold = await stage.until(refresh(stage, device, b % 5, c % 3 === 0));
    if (isTold) device.toldWeather = version;
  },
};

/** Something that changes what a device holds: told, it is so; killed before it was told, the device says which. */
async function holding(
  stage: Stage,
  device: Device,
  work: () => Promise<void>,
  { name, ids }: { readonly name: string; readonly ids?: readonly string[] },
): Promise<void> {
  const isTold = await stage.until(work().then(() => true));
  await stage.reopen(device);
  if (!isTold) device.holds = await held(stage, device);
  else if (ids === undefined) device.holds.delete(name);
  else device.holds.set(name, ids);
  await checkHoldings(stage, device);
}

/** The hives of holdings whose rows have not all come, and those that are not asked for: what the server does to them is not told. */
export async function arriving(stage: Stage, device: Device, there: readonly Row[]): Promise<ReadonlySet<string>> {
  const asked = new Set(wanted(device, there));
  const list = (device.isPartial && (await stage.until(device.replica.holdings()))) || [];
  const elsewhere = there.filter((row) => !asked.has(row)).map(({ id }) => id);
  return new Set([...elsewhere, ...list.flatMap(({ where, state }) => (state === 'arriving' ? idsOf(where) : []))]);
}

const idsOf = (where: unknown) => (where as { id: { in: string[] } }).id.in;

/** The names that a device says it holds, with the hives of each. */
async function held(stage: Stage, device: Device): Promise<Map<string, readonly string[]>> {
  const list = (await stage.until(device.replica.holdings())) ?? [];
  return new Map(list.flatMap(({ id, where, state }) => (state === 'leaving' ? [] : [[id, idsOf(where)] as const])));
}

/** Holdings are as a person has asked for them. */
export async function checkHoldings(stage: Stage, device: Device): Promise<void> {
  const said = JSON.stringify([...(await held(stage, device))].sort());
  const asked = JSON.stringify([...device.holds].sort());
  if (said !== asked && !device.process.isDead)
    throw new Violation(`${device.process} was asked to hold ${asked}, and says that it holds ${said}`);
}

/** The hives that a device has in the end, of those that the server has. */
export function wanted(device: Device, there: readonly Row[]): readonly Row[] {
  if (!device.isPartial) return there;
  const ids = new Set([...device.holds.values()].flat());
  return there.filter(({ id }) => ids.has(id));
}

/** The plants that the server has. */
export async function plants({ ground }: Stage): Promise<readonly Row[]> {
  return (await ground.rows('plant')).map(({ id, name, month }) => ({ id, name, month }) as unknown as Row);
}

/** Fetches the weather. True where the device was told that it has the newest. */
async function refresh(stage: Stage, device: Device, fate: number, isFaulty: boolean): Promise<boolean> {
  const source = await openSource(device.replica, 'weather', {
    async refresh({ etag }) {
      if (fate === 0) throw new KoinonError('server-unreachable', 'The weather service is not reached.');
      const { version } = stage.weather;
      if (etag === String(version)) return 'unchanged';
      const rows = weatherOf(version);
      // An answer that is spoilt in its last row.
      if (isFaulty && fate < 3)
        return { rows: [...rows, { id: 'last', version, degrees: 'warm' as unknown as number }], etag: 'spoilt' };
      return { rows, etag: String(version) };
    },
  });
  try {
    await source.refresh();
    return true;
  } catch (error) {
    if ((error as Partial<KoinonError>).code === 'value-type') return false;
    throw error;
  } finally {
    await source.close();
  }
}

/** The weather on a device is one version of it, whole: not an older one than it was told of. */
export function checkWeather({ weather }: Stage, device: Device, rows: readonly Row[]): void {
  const versions = Array.from({ length: weather.version - device.toldWeather + 1 }, (_, n) => device.toldWeather + n);
  const text = JSON.stringify(rows);
  if (!versions.some((version) => JSON.stringify(weatherOf(version)) === text))
    throw new Violation(
      `${device.process} has the weather ${text}, which is none of the versions ${versions.join()} of it`,
    );
}
