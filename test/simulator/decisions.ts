import type { TakingBack } from '@koinon/client';
import type { Device } from './device.ts';
import { type Act, Violation } from './ledger.ts';
import type { Performs, Stage } from './stage.ts';

// The decisions of a person about conflicts and refusals, and takes back.

type Kind =
  | 'resolve'
  | 'resolve several'
  | 'unresolve'
  | 'undo'
  | 'redo'
  | 'revert'
  | 'revert several'
  | 'discard'
  | 'resend';

export const decisions: Performs<Kind> = {
  resolve: (stage, device, { b, c }) => resolve(stage, device, 1, b, c),
  'resolve several': (stage, device, { b, c }) => resolve(stage, device, 4, b, c),
  async unresolve(stage, device, chance) {
    const hive = await stage.hiveOf(device, chance);
    if (hive === undefined) return;
    for (const act of device.stack) act.isUnsure ||= act.isRemoved;
    await stage.until(device.replica.unresolve('hive', hive.id));
    await stage.reopen(device);
    // The changes that the decision had taken away are unsent again, in their place.
    const unsent = await stage.origins(device);
    const back = stage.ledger.acts.filter(
      (act) => act.device === device.index && unsent.includes(act.origin) && !device.stack.includes(act),
    );
    for (const act of back) act.isRemoved = false;
    const placeOf = ({ origin }: Act) => unsent.indexOf(origin);
    if (back.length > 0) device.stack = [...device.stack, ...back].sort((one, other) => placeOf(one) - placeOf(other));
  },
  async undo(stage, device) {
    const before = await stage.origins(device);
    const last = device.stack.at(-1);
    const gone = await stage.removing(device, () => device.replica.undo());
    if (gone.length === 0) return;
    // The last one, and no other. A file that syncs by itself may have confirmed some meanwhile.
    if (!device.isAutomatic && !device.isSyncing && (gone.length > 1 || gone[0] !== last))
      throw new Violation(
        `undo took back ${gone.map(({ n }) => `act ${n}`)} and not the last one, act ${last?.n}; unsent were ${before.length}`,
      );
    device.undone.push(...gone);
  },
  async redo(stage, device) {
    const before = new Set(await stage.origins(device));
    const act = device.undone.pop();
    await stage.until(device.replica.redo());
    await stage.reopen(device);
    const origin = (await stage.origins(device)).find((each) => !before.has(each));
    if (origin === undefined) return;
    if (act === undefined) throw new Violation('redo did something, and nothing was undone');
    act.origin = origin;
    act.isRemoved = false;
    device.stack.push(act);
  },
  async revert(stage, device, chance) {
    if (chance.c % 3 === 0) return revertRefused(stage, device, chance.b);
    const hive = await stage.hiveOf(device, chance);
    if (hive) await revert(stage, device, [hive.id], chance.b);
  },
  async 'revert several'(stage, device, { b }) {
    const hives = await stage.hivesOf(device);
    await revert(
      stage,
      device,
      hives.map(({ id }) => id),
      b,
    );
  },
  async discard(stage, device, { b, c }) {
    const rejections = (await stage.until(device.replica.rejections())) ?? [];
    const rejection = rejections[b % Math.max(1, rejections.length)];
    if (rejection)
      await stage.removing(device, () =>
        device.replica.discard(rejection.transaction, c % 2 ? { dependent: 'take back' } : {}),
      );
  },
  async resend(stage, device) {
    const [rejection] = (await stage.until(device.replica.rejections())) ?? [];
    if (rejection) await stage.until(device.replica.resend(rejection.transaction));
    stage.ledger.frozen.clear();
  },
};

/** Takes back the visit of a refused act alone: its amount must not go up by itself. */
async function revertRefused(stage: Stage, device: Device, b: number): Promise<void> {
  const { acts, frozen } = stage.ledger;
  const rejections = (await stage.until(device.replica.rejections())) ?? [];
  const rejection = rejections[b % Math.max(1, rejections.length)];
  const visit = rejection?.rows.find(({ table }) => table === 'visit')?.id;
  const act = acts.find((each) => each.visit === visit && each.device === device.index);
  if (visit === undefined || act === undefined) return;
  const how = { transactions: 'these rows only' } as const;
  const isDone = await stage.until(device.replica.revert([{ table: 'visit', id: visit }], how).then(() => true));
  if (!isDone) return;
  act.isUnsure = true;
  if (!device.isCopied) frozen.add(act);
}

async function revert(stage: Stage, device: Device, ids: readonly string[], b: number): Promise<void> {
  const rows = ids.map((id) => ({ table: 'hive', id }));
  const ways: readonly TakingBack[] = [
    {},
    { transactions: 'whole', dependent: 'take back' },
    { transactions: 'these rows only' },
    { transactions: 'whole' },
  ];
  const how = ways[b % 4] as TakingBack;
  if (how.transactions === 'these rows only') {
    doubt(device, ids);
    const outbox = (await stage.until(device.replica.outbox())) ?? [];
    const refused = new Set(outbox.flatMap(({ origin, state }) => (state === 'rejected' ? [origin] : [])));
    if (!device.isCopied)
      for (const act of device.stack)
        if (refused.has(act.origin) && act.digit && ids.includes(act.digit.id)) stage.ledger.frozen.add(act);
  }
  await stage.removing(device, () => device.replica.revert(rows, how));
}

/** Of what a device has not sent of some rows, nobody can say any more what becomes of its parts. */
function doubt(device: Device, ids: readonly string[]): void {
  for (const act of device.stack)
    if ([act.digit?.id, act.own?.hive, act.line?.hive].some((id) => id !== undefined && ids.includes(id)))
      act.isUnsure = true;
}

/** Decides the conflicts of some rows, all together. */
export async function resolve(stage: Stage, device: Device, most: number, b: number, c: number): Promise<void> {
  const { replica } = device;
  const { acts, disturbed, deletedVisits, decidedNotes } = stage.ledger;
  const conflicts = (await stage.until(replica.conflicts())) ?? [];
  const rows = [...new Map(conflicts.map((each) => [`${each.table} ${each.id}`, each])).values()];
  const some = Array.from(
    { length: Math.min(most, rows.length) },
    (_, i) => rows[(b + i) % rows.length] as (typeof rows)[0],
  );
  if (some.length === 0) return;
  const decisions = some.map(({ table, id }, i) => {
    const columns = conflicts.filter((each) => each.table === table && each.id === id).map(({ column }) => column);
    const side = (['local', 'remote', 'remote'] as const)[(c + (most > 4 ? 0 : i)) % 3] as 'local' | 'remote';
    if (columns.includes('notes')) decidedNotes.add(id);
    if (columns.includes(null)) {
      disturbed.add(id);
      deletedVisits.add(id);
      doubt(device, [id]);
      return { table, id, choices: side };
    }
    const [first] = columns as string[];
    const isValue = first === 'title' && c % 5 === 0;
    if (isValue) return { table, id, choices: { title: { value: `decided ${c}` } } };
    return { table, id, choices: c % 7 === 0 && columns.length > 1 ? { [first as string]: side } : side };
  });
  const told = stage.log.length;
  await stage.removing(device, () =>
    decisions.length === 1
      ? replica.resolve(decisions[0]?.table as 'hive', decisions[0]?.id as string, decisions[0]?.choices as never)
      : replica.resolve(decisions as never),
  );
  const isRefused = stage.log.slice(told).some((line) => line.includes('duplicate-value'));
  if (isRefused && decisions.length === rows.length && decisions.every(({ choices }) => choices === 'remote'))
    await checkUndecidable(stage, device, conflicts);
  // An edit that agrees with the server by decision is done, and not taken back.
  for (const act of acts) if (act.isRemoved && !act.digit) act.isUnsure = true;
}

/** Where all ranks that a device has changed are in conflict, deciding all for the server is what the server has. */
async function checkUndecidable(
  stage: Stage,
  device: Device,
  conflicts: readonly { id: string; column: string | null }[],
): Promise<void> {
  const ranked = new Set(conflicts.flatMap(({ id, column }) => (column === 'rank' || column === null ? [id] : [])));
  const outbox = (await stage.until(device.replica.outbox())) ?? [];
  const isElsewhere = outbox.some(({ changes }) =>
    changes.some(
      (change) =>
        change.table === 'hive' && (change.kind !== 'update' || 'rank' in change.columns) && !ranked.has(change.id),
    ),
  );
  if (!isElsewhere) throw new Violation('all conflicts are decided for the server together, and that is refused');
}
