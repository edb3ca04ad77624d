import { plain } from './checks.ts';
import { mostDevices } from './schema.ts';

import type { Performs } from './stage.ts';

// The events that happen to devices and to the server without anybody's doing on a device.

type Kind =
  | 'disconnect'
  | 'connect'
  | 'kill'
  | 'kill later'
  | 'wait'
  | 'keep'
  | 'put back'
  | 'copy'
  | 'office'
  | 'office deletes'
  | 'backup'
  | 'restore'
  | 'hide hive'
  | 'other process'
  | 'update app'
  | 'update server';

/** Hives that are there at the start. */
export const hives = 3;

export const surroundings: Performs<Kind> = {
  disconnect: async (_stage, device) => device.connect(false),
  connect: async (_stage, device) => device.connect(true),
  kill: (_stage, device) => device.kill(),
  async 'kill later'(_stage, device, { b }) {
    device.disk.killAfter = 1 + (b % 6);
  },
  wait: ({ clock }, _device, { b }) => clock.pass(b % 5 === 0 ? 8_000 : b % 300),
  async keep({ kept }, device) {
    const { stack, holds, toldWeather } = device;
    if (kept.length < 3)
      kept.push({ file: device.disk.keep(), device, stack: [...stack], holds: new Map(holds), toldWeather });
  },
  async 'put back'({ kept, ledger }, device) {
    const found = kept.findLast((each) => each.device === device);
    if (found === undefined) return;
    await device.end();
    // What was done since is gone, and what was taken back since is there again.
    for (const act of ledger.acts)
      if (act.device === device.index && (!found.stack.includes(act) || act.isRemoved)) act.isUnsure = true;
    await device.disk.putBack(found.file);
    device.stack = [...found.stack];
    device.holds = new Map(found.holds);
    device.toldWeather = found.toldWeather;
    device.isPutBack = true;
  },
  async copy(stage, device) {
    if (stage.devices.length >= mostDevices) return;
    const file = device.disk.keep();
    const disk = await stage.parts.disk();
    disk.isGrown = device.disk.isGrown;
    await disk.putBack(file);
    device.isCopied = true;
    const { isJoining, isAutomatic, isShared, isPartial } = device;
    const copy = stage.addDevice(disk, { isJoining, isAutomatic, isShared, isPartial, skew: 0 }, device.owner);
    copy.isCopied = true;
    copy.version = device.version;
    copy.stack = [...device.stack];
    copy.holds = new Map(device.holds);
    copy.toldWeather = device.toldWeather;
    await copy.open();
  },
  async office({ ground, ledger }, _device, { a, b, c }) {
    const id = `h${a % hives}`;
    const load = ground.version === 1 ? 'mass' : 'load';
    await ground.write(
      [
        `UPDATE hive SET title = 'office ${ledger.acts.length}' WHERE id = '${id}'`,
        `UPDATE hive SET ${load} = ${load} + 1, notes = notes || '\nfrom the office ${b}' WHERE id = '${id}'`,
        `UPDATE hive SET card = json_set(coalesce(card, '{}'), '$.office', ${b}) WHERE id = '${id}'`,
        `UPDATE hive SET rank = CASE id WHEN 'h0' THEN 101 WHEN 'h1' THEN 102 ELSE 103 END WHERE id IN ('h0', 'h1', 'h2') AND rank < 100`,
      ][c % 4] as string,
    );
  },
  async 'office deletes'({ ground, ledger }, _device, { a }) {
    const id = `h${a % hives}`;
    ledger.disturbed.add(id);
    for (const { id: visit, hive } of await ground.rows('visit'))
      if (hive === id) ledger.deletedVisits.add(visit as string);
    await ground.write(`DELETE FROM visit WHERE hive = '${id}'; DELETE FROM hive WHERE id = '${id}'`);
  },
  async 'other process'(_stage, device) {
    if (device.isShared) await device.switch();
  },
  'update app': (_stage, device) => device.update(),
  'update server': ({ ground }) => ground.grow(),
  async 'hide hive'({ ground, ledger }, device, { a }) {
    const keeper = `keeper-${device.owner}`;
    const [row] = (await ground.rows('keeper')).filter(({ id }) => id === keeper);
    const hides = row === undefined ? [] : (plain(row.hides) as string[]);
    const id = `h${a % hives}`;
    ledger.hidden.add(id);
    const now = hides.includes(id) ? hides.filter((each) => each !== id) : [...hides, id];
    await ground.write(
      `DELETE FROM keeper WHERE id = '${keeper}'; INSERT INTO keeper (id, hides) VALUES ('${keeper}', '${JSON.stringify(now.sort())}')`,
    );
  },
  async backup({ ground, backups }) {
    if (backups.length === 0) backups.push(await ground.backup());
  },
  async restore({ ground, ledger, backups }) {
    const backup = backups.pop();
    // What the office wrote since is gone for good; the devices offer again what was theirs.
    if (backup === undefined) return;
    ledger.isRestored = true;
    await ground.restore(backup);
  },
};
