import { type Rejection, verifyFile } from '@koinon/client';
import type { Device } from './device.ts';
import { type Row, type Tables, Violation } from './ledger.ts';
import { arriving, checkHoldings, checkWeather, plants, wanted } from './on-demand.ts';
import { schemaOf } from './schema.ts';
import type { Stage } from './stage.ts';

// The invariants: at any moment, after a whole sync, and in the end.

/** The invariants at any moment. @param isDeep whether the files are verified as well, which takes longer. */
export async function checkNow(stage: Stage, devices: readonly Device[], isDeep: () => boolean): Promise<void> {
  const { ledger } = stage;
  const there = await onServer(stage);
  ledger.checkSums('the server', there);
  ledger.checkFrozen(there);
  for (const device of devices) {
    if (device.process.isDead) continue;
    const [first] = isDeep() ? device.disk.look(() => verifyFile(device.disk.raw, schemaOf(device.version))) : [];
    if (first)
      throw new Violation(
        `${device.process}: ${first.message} ${first.row ? `(${first.row.table} ${first.row.id})` : ''}`,
      );
    if (device.isAutomatic) continue;
    const rows = (table: string) => device.disk.raw.prepare(`SELECT * FROM ${table} ORDER BY id`).all() as Row[];
    const held = device.disk.look(() => ({ hive: rows('hive'), visit: rows('visit'), tool: rows('tool') }));
    ledger.checkSums(String(device.process), held, await arriving(stage, device, held.hive));
    checkWeather(stage, device, rows('weather'));
    checkOwn(stage, device);
  }
}

async function onServer({ ground }: Stage): Promise<Tables> {
  const rows = async (table: string) => (await ground.rows(table)) as Row[];
  return { hive: await rows('hive'), visit: await rows('visit'), tool: await rows('tool') };
}

/** A column that nobody else writes is never in conflict. */
function checkOwn({ ledger, isRestored }: Stage, device: Device): void {
  const column = `own${device.index}`;
  const found = device.disk.raw.prepare('SELECT row_id FROM koinon_conflict WHERE column_name = ?').all(column);
  if (device.isCopied || device.isPutBack || isRestored) return;
  for (const { row_id } of found as { row_id: string }[])
    if (!ledger.disturbed.has(row_id) && !ledger.hidden.has(row_id))
      throw new Violation(`${device.process}: ${column} of ${row_id} is in conflict, and nobody else writes it`);
}

/**
 * After a whole sync only what waits for a person is left, and what depends on that. While another device syncs by itself, its
 * deletion may come with the last pull of a sync: an edit that survives it goes up with the next one.
 */
export async function checkNotStuck(stage: Stage, device: Device): Promise<void> {
  if (stage.devices.some((other) => other !== device && other.isAutomatic))
    await stage.until(device.replica.sync().catch(() => undefined));
  // An app and a server of different versions keep for each other what only one of them knows.
  if (device.process.isDead || device.version !== stage.ground.version) return;
  const outbox = (await stage.until(device.replica.outbox())) ?? [];
  const conflicts = (await stage.until(device.replica.conflicts())) ?? [];
  const held = new Set<string>();
  for (const [i, { id: unit }] of outbox.entries()) {
    // What goes up as one waits as one, in the place of the last of it.
    if (outbox.findLastIndex((each) => each.id === unit) > i) continue;
    const members = outbox.filter((each) => each.id === unit);
    const changes = members.flatMap((each) => each.changes);
    const isRefused = members.some(({ state }) => state === 'rejected');
    const referred = members.flatMap(({ actions }) => actions.flatMap(({ refersTo }) => refersTo));
    const rows = [...changes, ...referred].map(({ table, id }) => `${table} ${id}`);
    const isConflicted = changes.some((change) =>
      conflicts.some(
        ({ table, id, column }) =>
          table === change.table &&
          id === change.id &&
          (column === null || change.kind === 'delete' || column in change.columns),
      ),
    );
    const references = changes.flatMap((change) =>
      change.kind !== 'delete' && typeof change.columns.hive === 'string' ? [`hive ${change.columns.hive}`] : [],
    );
    const waits = isRefused || isConflicted || [...rows, ...references].some((row) => held.has(row));
    if (!waits) throw new Violation(`${device.process} has not sent ${rows.join()} in a sync, and nothing says why`);
    for (const row of rows) held.add(row);
  }
}

/** In the end nothing is unsent, all hold the same, and the ledger is right. */
export async function checkEnd(stage: Stage, isQuiet: boolean): Promise<void> {
  const { devices, ground, ledger } = stage;
  for (const device of devices)
    for (const table of [
      'site',
      'hive',
      'visit',
      'tool',
      ...(stage.isGrowing && ground.version === 2 ? ['basket'] : []),
    ]) {
      const here = text(device.disk.raw.prepare(`SELECT * FROM ${table} ORDER BY id`).all());
      const all = (await ground.rows(table)) as Row[];
      const there = text(table === 'hive' ? wanted(device, all) : all);
      if (here !== there)
        throw new Violation(`${device.process} and the server differ in ${table}:\n${here}\n${there}`);
    }
  for (const device of devices) {
    await checkHoldings(stage, device);
    if (device.plants === undefined) continue;
    const followed = text(device.plants.current.rows.map(({ id, name, month }) => ({ id, name, month })));
    const there = text(await plants(stage));
    if (followed !== there)
      throw new Violation(`${device.process} follows the plants ${followed}, and there are ${there}`);
  }
  const unsent = new Set<string>();
  for (const device of devices) for (const origin of await stage.origins(device)) unsent.add(origin);
  if (!isQuiet || unsent.size > 0) throw new Violation(`it does not come to rest: ${unsent.size} unsent are left`);
  ledger.checkEnd(await onServer(stage), exceptedOf(stage));
}

/** Of these devices it cannot be said what becomes of their edits. */
const exceptedOf =
  ({ devices, isRestored }: Stage) =>
  (device: number) =>
    isRestored || devices[device]?.isCopied === true;

/** Nothing is refused without a reason. */
export function checkRefused(stage: Stage, { problems }: Rejection): void {
  const missing = problems.filter(({ code }) => code === 'no-such-row' || code === 'scope-left');
  // A transaction may hold rows beside the one that is missing.
  stage.ledger.checkMissing(
    missing.map(({ id }) => id),
    exceptedOf(stage),
  );
}

/** Rows as text, whichever database they come from: JSON is text in one and not in the other. */
const text = (rows: readonly unknown[]) => JSON.stringify(plain(rows));

/** A value of a row: JSON is text in one database and not in the other. */
export function plain(value: unknown): unknown {
  if (typeof value === 'string' && /^[[{]/.test(value)) return plain(JSON.parse(value));
  if (Array.isArray(value)) return value.map(plain);
  if (value === null || typeof value !== 'object') return value;
  return Object.fromEntries(
    Object.entries(value)
      .sort(([one], [other]) => (one < other ? -1 : 1))
      .map(([name, member]) => [name, plain(member)]),
  );
}
