import { type TakingBack, verifyFile } from '@koinon/client';
import { KoinonError } from '@koinon/core';
import type { Clock } from './clock.ts';
import type { Act, Device } from './device.ts';
import type { Storage } from './disk.ts';
import type { Ground } from './ground.ts';
import type { Fate, History, Step } from './history.ts';
import { inProcess, type Parts } from './parts.ts';
import { Random } from './random.ts';
import { mostDevices, register } from './schema.ts';

/** What a history has shown to be wrong. */
export class Violation extends Error {}

type Row = Readonly<Record<string, unknown>> & { readonly id: string };

/** The errors that a person or an app may meet with in a history; anything else is a fault. */
const expected = new Set([
  'server-unreachable',
  'sync-busy',
  // The server was restored in the middle of a sync, or before one that only sends; the next one starts over.
  'feed-restored',
  'cancelled',
  'no-such-row',
  'no-such-conflict',
  'no-such-reference',
  'row-referenced',
  'duplicate-value',
  'duplicate-id',
  'already-sent',
  'nothing-to-undo',
  'nothing-to-redo',
  'transaction-shared',
  'change-needed',
]);

const hives = 3;

/** One history, and the ledger of what each person meant and was told. The rules it checks are written without the library's code. */
export class Simulation {
  private readonly parts: Parts;
  private readonly history: History;
  private readonly ground: Ground;
  private readonly random: Random;
  private readonly clock: Clock;
  private readonly devices: Device[] = [];
  private readonly acts: Act[] = [];
  private readonly digits = new Map<string, number>();
  /** Hives that were deleted, or of which a person decided which version stays: sums say nothing of them any more. */
  private readonly disturbed = new Set<string>();
  private readonly decidedNotes = new Set<string>();
  /** Refused acts of which a part was taken back: nothing but a new edit sends the rest. */
  private readonly frozen = new Set<Act>();
  private readonly deletedVisits = new Set<string>();
  private readonly kept: { file: string; device: Device; stack: Act[] }[] = [];
  private backups: string[] = [];
  private made = 0;
  private checks = 0;
  /** What has happened so far, to be read. */
  readonly log: string[] = [];

  /** @param parts what devices are made of: simulated ones in this process, or real processes and files. */
  constructor(history: History, ground: Ground, parts: Parts = inProcess) {
    this.parts = parts;
    this.history = history;
    this.ground = ground;
    this.random = new Random(history.seed ^ 0x5bd1e995);
    this.clock = parts.clock();
  }

  /** Runs the history to its end. @throws Violation. */
  async run(): Promise<void> {
    try {
      await this.seed();
      for (const [index, settings] of this.history.devices.entries()) {
        const device = this.device(index, await this.parts.disk(), settings);
        await device.open();
        await this.until(device.replica.sync());
      }
      for (const step of this.history.steps) {
        await this.take(step);
        await this.check(this.devices[step.who % this.devices.length] as Device);
      }
      await this.settle();
    } finally {
      for (const device of this.devices) {
        await device.end();
        await device.disk.release();
      }
      await this.clock.pass(0);
      await this.ground.clear();
    }
  }

  private async seed(): Promise<void> {
    const columns = register.tables.hive.entries.map(([name]) => `"${name}"`).join();
    await this.ground.write("INSERT INTO site VALUES ('s', 'Marrowfen')");
    const notes = Array.from({ length: mostDevices }, (_, n) => `line ${n}\n-`).join('\n');
    for (let n = 0; n < hives; n++)
      await this.ground.write(
        `INSERT INTO hive (id, ${columns}) VALUES ('h${n}', 's', '', '${notes}', NULL, 0, '', '', '', '', ${n + 1}, 0, 0, '[]')`,
      );
    await this.ground.write("INSERT INTO tool VALUES ('t0', 'smoker', 0)");
  }

  private device(index: number, disk: Storage, settings: History['devices'][number]): Device {
    const way = { connect: () => this.ground.connect(), latency: () => 1 + this.random.below(30) };
    const device = this.parts.device(index, disk, settings, this.clock, way, () => this.random.next(), this.ground);
    this.devices.push(device);
    return device;
  }

  /** Waits for something; what a person is told is passed on, everything else is a fault. */
  private async until<T>(promise: Promise<T>): Promise<T | undefined> {
    try {
      return await this.clock.until(promise, () => this.devices.some(({ process }) => process.isDead));
    } catch (error) {
      if (error instanceof KoinonError && expected.has(error.code)) {
        this.log.push(`   told: ${error.code}`);
        return undefined;
      }
      if (/process was killed|runs the replica is gone/.test(String(error))) return undefined;
      const { message, stack, code } = error as KoinonError;
      throw new Violation(`an unexpected error: ${code ?? ''} ${message}\n${stack}`);
    }
  }

  private async take(step: Step): Promise<void> {
    const device = this.devices[step.who % this.devices.length] as Device;
    // One that syncs by itself may have been killed meanwhile.
    for (const each of this.devices) await this.reopen(each);
    this.log.push(`${this.log.length}. device ${device.index}: ${step.do} (${step.a}, ${step.b}, ${step.c})`);
    await this.perform(device, step);
    await this.reopen(device);
  }

  /** Starts the app again where it was killed; what it had been told to write may be there. */
  private async reopen(device: Device): Promise<void> {
    if (!device.process.isDead) return;
    await device.kill();
    device.undone.length = 0;
    await device.open();
    await this.clock.pass(0);
  }

  private async perform(device: Device, step: Step): Promise<void> {
    const { replica } = device;
    const { a, b, c } = step;
    const hive = await this.hiveOf(device, a);
    const n = this.acts.length;
    const token = `#${n}`;
    switch (step.do) {
      case 'title':
        if (hive) await this.act(device, {}, () => replica.update('hive', hive.id, { title: token }));
        return;
      case 'own':
        if (hive)
          await this.act(device, { own: { hive: hive.id, token } }, () =>
            replica.update('hive', hive.id, { [`own${device.index}`]: token } as never),
          );
        return;
      // Read where they are written: a sync may bring other lines between the two.
      case 'notes':
        if (hive)
          await this.act(device, { line: { hive: hive.id, token } }, () =>
            replica.transaction(async (transaction) => {
              const now = await transaction.get('hive', hive.id);
              const notes = withLine(now?.notes ?? '', device.index, token);
              await transaction.update('hive', hive.id, { notes });
            }),
          );
        return;
      case 'card':
        if (hive)
          await this.act(device, {}, () =>
            replica.transaction(async (transaction) => {
              const now = await transaction.get('hive', hive.id);
              const card = { ...(now?.card as object | null), [`of${device.index}`]: token };
              await transaction.update('hive', hive.id, { card });
            }),
          );
        return;
      case 'mass':
        if (hive) await this.act(device, {}, () => replica.update('hive', hive.id, { mass: n + 1 }));
        return;
      case 'mark':
        if (hive)
          await this.act(device, {}, () =>
            b % 3
              ? replica.include('hive', hive.id, 'marks', `m${b % 4}`)
              : replica.exclude('hive', hive.id, 'marks', `m${b % 4}`),
          );
        return;
      case 'frames': {
        const digit = hive && this.digit('hive', hive.id, 'frames');
        if (digit) await this.act(device, { digit }, () => replica.add('hive', digit.id, 'frames', 4 ** digit.k));
        return;
      }
      case 'visit':
      case 'refused visit': {
        const digit = hive && this.digit('hive', hive.id, 'total');
        if (digit === undefined) return;
        const visit = `v${n}`;
        const words = step.do === 'visit' ? `of ${n}` : 'more than the office takes';
        const amount = 4 ** digit.k;
        await this.act(device, { digit, visit }, () =>
          replica.transaction(async (transaction) => {
            await transaction.insert('visit', { id: visit, hive: digit.id, amount, words });
            await transaction.add('hive', digit.id, 'total', amount);
          }),
        );
        return;
      }
      case 'three hives': {
        const some = await this.hivesOf(device);
        await this.act(device, {}, () =>
          replica.transaction(async (transaction) => {
            for (const { id } of some.slice(0, 3)) await transaction.update('hive', id, { title: `${token} ${id}` });
          }),
        );
        return;
      }
      case 'own between': {
        const [first, second, third] = await this.hivesOf(device);
        if (first === undefined || second === undefined || third === undefined) return;
        await this.act(device, { own: { hive: second.id, token } }, () =>
          replica.transaction(async (transaction) => {
            await transaction.update('hive', first.id, { title: token });
            await transaction.update('hive', second.id, { [`own${device.index}`]: token } as never);
            await transaction.update('hive', third.id, { title: token });
          }),
        );
        return;
      }
      case 'rotate ranks': {
        const some = (await this.hivesOf(device)).filter(({ rank }) => rank !== null).slice(0, 3);
        if (some.length < 2) return;
        const ranks = some.map(({ rank }) => rank as number);
        await this.act(device, {}, () =>
          replica.transaction(async (transaction) => {
            for (const [i, { id }] of some.entries())
              await transaction.update('hive', id, { rank: ranks[(i + 1 + (b % 2)) % ranks.length] as number });
          }),
        );
        return;
      }
      case 'new hive': {
        const id = `n${device.index}-${this.made++}`;
        await this.act(device, {}, () =>
          replica.transaction(async (transaction) => {
            await transaction.insert('hive', { id, site: 's', title: token });
            if (b % 2) await transaction.update('hive', id, { title: `${token}!` });
          }),
        );
        return;
      }
      case 'delete hive':
        if (hive) {
          this.disturbed.add(hive.id);
          await this.act(device, {}, () =>
            replica.transaction(async (transaction) => {
              for (const { id } of await transaction.rows({ from: 'visit', where: { hive: hive.id } })) {
                this.deletedVisits.add(id);
                await transaction.delete('visit', id);
              }
              await transaction.delete('hive', hive.id);
            }),
          );
        }
        return;
      case 'delete visit':
      case 'words': {
        const visits = (await this.until(replica.rows({ from: 'visit', order: ['id'] }))) ?? [];
        const visit = visits[b % Math.max(1, visits.length)];
        if (visit === undefined) return;
        if (step.do === 'words') await this.act(device, {}, () => replica.update('visit', visit.id, { words: token }));
        else {
          this.deletedVisits.add(visit.id);
          await this.act(device, {}, () => replica.delete('visit', visit.id));
        }
        return;
      }
      case 'tool': {
        if ((await this.until(replica.get('tool', 't0'))) === undefined) return;
        const digit = this.digit('tool', 't0', 'used');
        if (digit)
          await this.act(device, { digit }, () =>
            replica.transaction(async (transaction) => {
              if (b % 2) await transaction.update('tool', 't0', { name: token });
              await transaction.add('tool', 't0', 'used', 4 ** digit.k);
            }),
          );
        return;
      }
      case 'delete tool':
        this.disturbed.add('t0');
        await this.act(device, {}, () => replica.delete('tool', 't0'));
        return;
      case 'draft': {
        if (hive === undefined) return;
        const draft = replica.draft();
        await this.act(device, {}, async () => {
          await draft.update('hive', hive.id, { title: token, mass: n + 1 });
          if (b % 3) await draft.commit();
          else draft.discard();
        });
        return;
      }
      case 'resolve':
        return this.resolve(device, 1, b, c);
      case 'resolve several':
        return this.resolve(device, 4, b, c);
      case 'unresolve':
        if (hive) {
          for (const act of device.stack) act.isUnsure ||= act.isRemoved;
          await this.until(replica.unresolve('hive', hive.id));
        }
        return;
      case 'undo':
        return this.undo(device);
      case 'redo':
        return this.redo(device);
      case 'revert':
        if (c % 3 === 0) await this.revertRefused(device, b);
        else if (hive) await this.revert(device, [hive.id], b);
        return;
      case 'revert several':
        return this.revert(
          device,
          (await this.hivesOf(device)).map(({ id }) => id),
          b,
        );
      case 'discard': {
        const rejections = (await this.until(replica.rejections())) ?? [];
        const rejection = rejections[b % Math.max(1, rejections.length)];
        if (rejection)
          await this.removing(device, () =>
            replica.discard(rejection.transaction, c % 2 ? { dependent: 'take back' } : {}),
          );
        return;
      }
      case 'resend': {
        const [rejection] = (await this.until(replica.rejections())) ?? [];
        if (rejection) await this.until(replica.resend(rejection.transaction));
        this.frozen.clear();
        return;
      }
      case 'sync':
        return this.sync(device, 'both', b, c);
      case 'push only':
        return this.sync(device, 'push', b, c);
      case 'pull only':
        return this.sync(device, 'pull', b, c);
      case 'sync while editing': {
        device.fates = fatesOf(b, c);
        device.isSyncing = true;
        const syncing = this.until(device.replica.sync());
        for (let i = 0; i < 1 + (b % 4); i++) {
          await this.clock.pass(this.random.below(40));
          if (device.process.isDead) break;
          const kinds = ['title', 'own', 'frames', 'visit', 'notes', 'undo', 'rotate ranks'] as const;
          const kind = kinds[(c + i) % kinds.length] as Step['do'];
          this.log.push(`   meanwhile: ${kind}`);
          await this.perform(device, { ...step, do: kind });
        }
        await syncing;
        device.isSyncing = false;
        device.fates = [];
        return;
      }
      case 'disconnect':
        device.connect(false);
        return;
      case 'connect':
        device.connect(true);
        return;
      case 'kill':
        await device.kill();
        return;
      case 'kill later':
        device.disk.killAfter = 1 + (b % 6);
        return;
      case 'wait':
        return this.clock.pass(b % 5 === 0 ? 8_000 : b % 300);
      case 'keep':
        if (this.kept.length < 3) this.kept.push({ file: device.disk.keep(), device, stack: [...device.stack] });
        return;
      case 'put back': {
        const kept = this.kept.findLast((each) => each.device === device);
        if (kept === undefined) return;
        await device.kill();
        // What was done since is gone, and what was taken back since is there again.
        for (const act of this.acts)
          if (act.device === device.index && (!kept.stack.includes(act) || act.isRemoved)) act.isUnsure = true;
        await device.disk.putBack(kept.file);
        device.stack = [...kept.stack];
        return;
      }
      case 'copy': {
        if (this.devices.length >= mostDevices) return;
        const file = device.disk.keep();
        const disk = await this.parts.disk();
        await disk.putBack(file);
        device.isCopied = true;
        const copy = this.device(this.devices.length, disk, { ...device, skew: 0 });
        copy.isCopied = true;
        copy.stack = [...device.stack];
        await copy.open();
        return;
      }
      case 'office': {
        const id = `h${a % hives}`;
        await this.ground.write(
          [
            `UPDATE hive SET title = 'office ${n}' WHERE id = '${id}'`,
            `UPDATE hive SET mass = mass + 1, notes = notes || '\nfrom the office ${b}' WHERE id = '${id}'`,
            `UPDATE hive SET card = json_set(coalesce(card, '{}'), '$.office', ${b}) WHERE id = '${id}'`,
            `UPDATE hive SET rank = CASE id WHEN 'h0' THEN 101 WHEN 'h1' THEN 102 ELSE 103 END WHERE id IN ('h0', 'h1', 'h2') AND rank < 100`,
          ][c % 4] as string,
        );
        return;
      }
      case 'office deletes': {
        const id = `h${a % hives}`;
        this.disturbed.add(id);
        for (const { id: visit, hive: of } of await this.ground.rows('visit'))
          if (of === id) this.deletedVisits.add(visit as string);
        await this.ground.write(`DELETE FROM visit WHERE hive = '${id}'; DELETE FROM hive WHERE id = '${id}'`);
        return;
      }
      case 'backup':
        if (this.backups.length === 0) this.backups.push(await this.ground.backup());
        return;
      case 'restore': {
        const backup = this.backups.pop();
        if (backup === undefined) return;
        await this.ground.restore(backup);
        // What the office wrote since is gone for good; the devices offer again what was theirs.
        return;
      }
    }
  }

  private async hivesOf({ replica }: Device): Promise<readonly Row[]> {
    return ((await this.until(replica.rows({ from: 'hive', order: ['id'] }))) ?? []) as readonly Row[];
  }

  private async hiveOf(device: Device, a: number): Promise<Row | undefined> {
    const rows = await this.hivesOf(device);
    return rows[a % Math.max(1, rows.length)];
  }

  /** A digit that no act has used; undefined where a counter has no more. */
  private digit(table: 'hive' | 'tool', id: string, column: string): Act['digit'] {
    const key = `${id} ${column}`;
    const k = this.digits.get(key) ?? 0;
    if (k > 24) return undefined;
    this.digits.set(key, k + 1);
    return { table, id, column, k };
  }

  /** Somebody does something on a device, and is told that it is done. */
  private async act(device: Device, about: Partial<Act>, work: () => Promise<unknown>): Promise<void> {
    const before = new Set(this.acts.map(({ origin }) => origin));
    const act: Act = {
      n: this.acts.length,
      device: device.index,
      origin: '',
      isRemoved: false,
      isUnsure: false,
      ...about,
    };
    await this.until(work());
    // Killed right after the commit: it was not told, and it is there.
    await this.reopen(device);
    const origin = (await this.origins(device)).find((each) => !before.has(each));
    if (origin === undefined) return;
    act.origin = origin;
    this.acts.push(act);
    for (const each of this.frozen) if (each.device === device.index) this.frozen.delete(each);
    device.stack.push(act);
    device.undone.length = 0;
    this.log.push(`   act ${act.n}`);
  }

  /** What is in a device's outbox. */
  private async origins(device: Device): Promise<readonly string[]> {
    const outbox = await this.until(device.replica.outbox());
    if (outbox === undefined) {
      await this.reopen(device);
      return ((await this.until(device.replica.outbox())) ?? []).map(({ origin }) => origin);
    }
    return outbox.map(({ origin }) => origin);
  }

  /** Something that takes acts out of the outbox; what is gone then was taken back. Returns whether it was done. */
  private async removing(device: Device, work: () => Promise<unknown>): Promise<readonly Act[]> {
    const before = await this.origins(device);
    // Refused: what is gone then was confirmed meanwhile.
    if ((await this.until(work().then(() => true))) === undefined) return [];
    await this.reopen(device);
    const after = new Set(await this.origins(device));
    const gone = this.acts.filter(({ origin }) => before.includes(origin) && !after.has(origin));
    // While a sync is under way it may have been confirmed instead.
    const isCertain = !device.isAutomatic && !device.isCopied && !device.isSyncing;
    for (const act of gone) {
      if (isCertain) act.isRemoved = true;
      else act.isUnsure = true;
    }
    device.stack = device.stack.filter((act) => !gone.includes(act));
    if (gone.length > 0)
      this.log.push(`   gone: ${gone.map(({ n }) => `act ${n}`).join()}${isCertain ? '' : ', perhaps confirmed'}`);
    return gone;
  }

  private async undo(device: Device): Promise<void> {
    const before = await this.origins(device);
    const last = device.stack.at(-1);
    const gone = await this.removing(device, () => device.replica.undo());
    if (gone.length === 0) return;
    // The last one, and no other. A file that syncs by itself may have confirmed some meanwhile.
    if (!device.isAutomatic && !device.isSyncing && (gone.length > 1 || gone[0] !== last))
      throw new Violation(
        `undo took back ${gone.map(({ n }) => `act ${n}`)} and not the last one, act ${last?.n}; unsent were ${before.length}`,
      );
    device.undone.push(...gone);
  }

  private async redo(device: Device): Promise<void> {
    const before = new Set(await this.origins(device));
    const act = device.undone.pop();
    await this.until(device.replica.redo());
    await this.reopen(device);
    const origin = (await this.origins(device)).find((each) => !before.has(each));
    if (origin === undefined) return;
    if (act === undefined) throw new Violation('redo did something, and nothing was undone');
    act.origin = origin;
    act.isRemoved = false;
    device.stack.push(act);
  }

  /** Takes back the visit of a refused act alone: its amount must not go up by itself. */
  private async revertRefused(device: Device, b: number): Promise<void> {
    const rejections = (await this.until(device.replica.rejections())) ?? [];
    const rejection = rejections[b % Math.max(1, rejections.length)];
    const visit = rejection?.rows.find(({ table }) => table === 'visit')?.id;
    const act = this.acts.find((each) => each.visit === visit && each.device === device.index);
    if (visit === undefined || act === undefined) return;
    const how = { transactions: 'these rows only' } as const;
    const isDone = await this.until(device.replica.revert([{ table: 'visit', id: visit }], how).then(() => true));
    if (!isDone) return;
    act.isUnsure = true;
    if (!device.isCopied) this.frozen.add(act);
  }

  private async revert(device: Device, ids: readonly string[], b: number): Promise<void> {
    const rows = ids.map((id) => ({ table: 'hive', id }));
    const ways: readonly TakingBack[] = [
      {},
      { transactions: 'whole', dependent: 'take back' },
      { transactions: 'these rows only' },
      { transactions: 'whole' },
    ];
    const how = ways[b % 4] as TakingBack;
    if (how.transactions === 'these rows only') {
      this.unsure(device, ids);
      const refused = new Set(
        ((await this.until(device.replica.outbox())) ?? []).flatMap(({ origin, state }) =>
          state === 'rejected' ? [origin] : [],
        ),
      );
      if (!device.isCopied)
        for (const act of device.stack)
          if (refused.has(act.origin) && act.digit && ids.includes(act.digit.id)) this.frozen.add(act);
    }
    await this.removing(device, () => device.replica.revert(rows, how));
  }

  /** Of what a device has not sent of some rows, nobody can say any more what becomes of its parts. */
  private unsure(device: Device, ids: readonly string[]): void {
    for (const act of device.stack)
      if (
        (act.digit && ids.includes(act.digit.id)) ||
        (act.own && ids.includes(act.own.hive)) ||
        (act.line && ids.includes(act.line.hive))
      )
        act.isUnsure = true;
  }

  private async resolve(device: Device, most: number, b: number, c: number): Promise<void> {
    const { replica } = device;
    const conflicts = (await this.until(replica.conflicts())) ?? [];
    const rows = [...new Map(conflicts.map((each) => [`${each.table} ${each.id}`, each])).values()];
    const some = Array.from(
      { length: Math.min(most, rows.length) },
      (_, i) => rows[(b + i) % rows.length] as (typeof rows)[0],
    );
    if (some.length === 0) return;
    const decisions = some.map(({ table, id }, i) => {
      const columns = conflicts.filter((each) => each.table === table && each.id === id).map(({ column }) => column);
      const side = (['local', 'remote', 'remote'] as const)[(c + (most > 4 ? 0 : i)) % 3] as 'local' | 'remote';
      if (columns.includes('notes')) this.decidedNotes.add(id);
      if (columns.includes(null)) {
        this.disturbed.add(id);
        this.deletedVisits.add(id);
        this.unsure(device, [id]);
        return { table, id, choices: side };
      }
      const [first] = columns as string[];
      const isValue = first === 'title' && c % 5 === 0;
      if (isValue) return { table, id, choices: { title: { value: `decided ${c}` } } };
      return { table, id, choices: c % 7 === 0 && columns.length > 1 ? { [first as string]: side } : side };
    });
    const told = this.log.length;
    await this.removing(device, () =>
      decisions.length === 1
        ? replica.resolve(decisions[0]?.table as 'hive', decisions[0]?.id as string, decisions[0]?.choices as never)
        : replica.resolve(decisions as never),
    );
    const isRefused = this.log.slice(told).some((line) => line.includes('duplicate-value'));
    if (isRefused && decisions.length === rows.length && decisions.every(({ choices }) => choices === 'remote'))
      await this.checkUndecidable(device, conflicts);
    // An edit that agrees with the server by decision is done, and not taken back.
    for (const act of this.acts) if (act.isRemoved && !act.digit) act.isUnsure = true;
  }

  /** Where all ranks that a device has changed are in conflict, deciding all for the server is what the server has. */
  private async checkUndecidable(
    device: Device,
    conflicts: readonly { id: string; column: string | null }[],
  ): Promise<void> {
    const ranked = new Set(conflicts.flatMap(({ id, column }) => (column === 'rank' || column === null ? [id] : [])));
    const outbox = (await this.until(device.replica.outbox())) ?? [];
    const isElsewhere = outbox.some(({ changes }) =>
      changes.some(
        (change) =>
          change.table === 'hive' && (change.kind !== 'update' || 'rank' in change.columns) && !ranked.has(change.id),
      ),
    );
    if (!isElsewhere) throw new Violation('all conflicts are decided for the server together, and that is refused');
  }

  private async sync(device: Device, direction: 'both' | 'push' | 'pull', b: number, c: number): Promise<void> {
    device.fates = fatesOf(b, c);
    const isClean = device.fates.every((fate) => fate === 'passes') && device.isConnected;
    const report = await this.until(device.replica.sync({ direction }));
    device.fates = [];
    if (report && direction === 'both' && isClean && !device.isAutomatic) await this.checkNotStuck(device);
  }

  /** After a whole sync only what waits for a person is left, and what depends on that. */
  private async checkNotStuck(device: Device): Promise<void> {
    if (device.process.isDead) return;
    const outbox = (await this.until(device.replica.outbox())) ?? [];
    const conflicts = (await this.until(device.replica.conflicts())) ?? [];
    const held = new Set<string>();
    for (const [i, { id: unit }] of outbox.entries()) {
      // What goes up as one waits as one, in the place of the last of it.
      if (outbox.findLastIndex((each) => each.id === unit) > i) continue;
      const members = outbox.filter((each) => each.id === unit);
      const changes = members.flatMap((each) => each.changes);
      const isRefused = members.some(({ state }) => state === 'rejected');
      const rows = changes.map(({ table, id }) => `${table} ${id}`);
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

  /** What must hold at any moment. */
  private async check(...devices: readonly Device[]): Promise<void> {
    const [there, made, tools] = [
      await this.ground.rows('hive'),
      await this.ground.rows('visit'),
      await this.ground.rows('tool'),
    ];
    this.checkSums('the server', there, made, tools);
    const visits = new Set(made.map(({ id }) => id));
    for (const { n, visit, digit } of this.frozen) {
      const sum = there.find(({ id }) => id === digit?.id)?.[digit?.column ?? ''];
      const isCounted = digit !== undefined && digitOf(Number(sum ?? 0), digit.k) > 0;
      if ((visit !== undefined && visits.has(visit)) || isCounted)
        throw new Violation(`of act ${n}, which was refused, one half was taken back, and the other went up by itself`);
    }
    for (const device of devices) {
      if (device.process.isDead) continue;
      const [first] = this.checks++ % 3 === 0 ? device.disk.look(() => verifyFile(device.disk.raw, register)) : [];
      if (first)
        throw new Violation(
          `${device.process}: ${first.message} ${first.row ? `(${first.row.table} ${first.row.id})` : ''}`,
        );
      if (device.isAutomatic) continue;
      const rows = (table: string) => device.disk.raw.prepare(`SELECT * FROM ${table} ORDER BY id`).all() as Row[];
      const [held, seen, used] = device.disk.look(() => [rows('hive'), rows('visit'), rows('tool')] as const);
      this.checkSums(String(device.process), held, seen, used);
      const conflicts = device.disk.raw
        .prepare("SELECT row_id, column_name FROM koinon_conflict WHERE column_name LIKE 'own%'")
        .all() as { row_id: string; column_name: string }[];
      for (const { row_id, column_name } of conflicts)
        if (
          column_name === `own${device.index}` &&
          !device.isCopied &&
          !this.disturbed.has(row_id) &&
          !this.isRestored()
        )
          throw new Violation(
            `${device.process}: ${column_name} of ${row_id} is in conflict, and nobody else writes it`,
          );
    }
  }

  private isRestored(): boolean {
    return this.history.steps.some((step) => step.do === 'restore');
  }

  /** No act counts twice, and a visit is where its amount is. */
  private checkSums(
    where: string,
    hiveRows: readonly object[],
    visits: readonly object[],
    tools: readonly object[],
  ): void {
    const rows = new Map([...hiveRows, ...tools].map((row) => [(row as Row).id, row as Row]));
    const present = new Set((visits as Row[]).map(({ id }) => id));
    for (const act of this.acts) {
      if (act.digit === undefined) continue;
      const row = rows.get(act.digit.id);
      if (row === undefined) continue;
      const times = digitOf(row[act.digit.column] as number, act.digit.k);
      if (times > 1) throw new Violation(`${where}: act ${act.n} is counted ${times} times in ${act.digit.column}`);
      const isExempt = act.isUnsure || this.disturbed.has(act.digit.id) || this.deletedVisits.has(act.visit ?? '');
      if (act.visit === undefined || isExempt) continue;
      if (present.has(act.visit) !== (times === 1))
        throw new Violation(
          `${where}: the visit of act ${act.n} is ${present.has(act.visit) ? 'there' : 'missing'}, and its amount is counted ${times} times`,
        );
    }
  }

  /** Everybody comes back and decides what is to be decided: then all hold the same, and everything that was done counts. */
  private async settle(): Promise<void> {
    this.log.push('all settle');
    for (const device of this.devices) {
      await this.reopen(device);
      device.disk.killAfter = Number.POSITIVE_INFINITY;
      device.fates = [];
      device.connect(true);
    }
    let isQuiet = false;
    for (let round = 0; round < 14 && !isQuiet; round++) {
      isQuiet = true;
      for (const device of this.devices) {
        const report = await this.until(device.replica.sync());
        if (report === undefined) await this.clock.pass(5_000);
        else if (!device.isAutomatic) await this.checkNotStuck(device);
        await this.check(device);
        for (const rejection of (await this.until(device.replica.rejections())) ?? []) {
          isQuiet = false;
          await this.removing(device, () => device.replica.discard(rejection.transaction, { dependent: 'take back' }));
        }
        if (((await this.until(device.replica.conflicts())) ?? []).length > 0) {
          isQuiet = false;
          await this.resolve(device, 9, 0, round > 2 ? 1 : this.random.below(1_000));
          // The server's values may collide with what is not in conflict: then all of it has to go.
          if (round > 5) await this.removing(device, () => device.replica.revertAll());
        }
        const moved = report?.up.applied ?? 1;
        isQuiet &&= moved === 0 && (await this.origins(device)).length === 0;
        await this.check(device);
      }
    }
    for (const { replica } of this.devices) await this.until(replica.sync());
    await this.check(...this.devices);
    await this.checkEqual();
    await this.checkLedger(isQuiet);
  }

  private async checkEqual(): Promise<void> {
    for (const device of this.devices)
      for (const table of ['site', 'hive', 'visit', 'tool']) {
        const here = device.disk.raw.prepare(`SELECT * FROM ${table} ORDER BY id`).all();
        const there = await this.ground.rows(table);
        const [own, theirs] = [text(here), text(there)];
        if (own !== theirs)
          throw new Violation(`${device.process} and the server differ in ${table}:\n${own}\n${theirs}`);
      }
  }

  private async checkLedger(isQuiet: boolean): Promise<void> {
    const held = new Set<string>();
    for (const device of this.devices) for (const origin of await this.origins(device)) held.add(origin);
    if (!isQuiet || held.size > 0) throw new Violation(`it does not come to rest: ${held.size} unsent are left`);
    const rows = new Map(
      [...(await this.ground.rows('hive')), ...(await this.ground.rows('tool'))].map((row) => [row.id as string, row]),
    );
    const lastOwn = new Map<string, Act>();
    const lastLine = new Map<string, Act>();
    for (const act of this.acts) {
      const { digit, own, line, isRemoved, isUnsure } = act;
      if (digit && !this.disturbed.has(digit.id) && !isUnsure) {
        const row = rows.get(digit.id);
        const times = row ? digitOf(row[digit.column] as number, digit.k) : 0;
        if (times !== (isRemoved ? 0 : 1))
          throw new Violation(
            `act ${act.n} (${digit.column} of ${digit.id}) was ${isRemoved ? 'taken back' : 'done'}, and counts ${times} times in the end`,
          );
      }
      if (isRemoved) continue;
      if (own) lastOwn.set(`${own.hive} own${act.device}`, act);
      if (line) lastLine.set(`${line.hive} ${act.device}`, act);
    }
    for (const [key, act] of lastOwn)
      this.checkLast(act, key.split(' ')[1] as string, act.own as { hive: string; token: string }, rows);
    for (const act of lastLine.values())
      if (!this.decidedNotes.has(act.line?.hive as string))
        this.checkLast(act, 'notes', act.line as { hive: string; token: string }, rows);
  }

  /** What a person wrote last into what nobody else writes is there in the end. */
  private checkLast(
    act: Act,
    column: string,
    { hive, token }: { hive: string; token: string },
    rows: ReadonlyMap<string, object>,
  ): void {
    const row = rows.get(hive) as Row | undefined;
    const others = this.acts.some((each) => (each.own?.hive === hive || each.line?.hive === hive) && each.isUnsure);
    const device = this.devices[act.device] as Device;
    if (row === undefined || this.disturbed.has(hive) || others || device.isCopied || this.isRestored()) return;
    const isThere =
      column === 'notes' ? String(row[column]).split('\n').includes(lineOf(act.device, token)) : row[column] === token;
    if (!isThere)
      throw new Violation(
        `act ${act.n} wrote ${token} into ${column} of ${hive}, which holds ${JSON.stringify(row[column])} in the end`,
      );
  }
}

const lineOf = (device: number, token: string) => `line ${device} ${token}`;

function withLine(notes: string, device: number, token: string): string {
  return notes
    .split('\n')
    .map((line) => (line.startsWith(`line ${device}`) ? lineOf(device, token) : line))
    .join('\n');
}

/** How often an act is counted that added 4 to the power of k. */
const digitOf = (sum: number, k: number) => Math.floor(sum / 4 ** k) % 4;

function fatesOf(b: number, c: number): Fate[] {
  const fates: Fate[] = ['passes', 'passes', 'passes', 'lost request', 'lost reply', 'sent twice', 'late copy'];
  if (b % 2) return [];
  return [0, 1, 2, 3].map((i) => fates[(b * 7 + c * (i + 1)) % fates.length] as Fate);
}

/** Rows as text, whichever database they come from: JSON is text in one and not in the other. */
const text = (rows: readonly unknown[]) => JSON.stringify(plain(rows));

function plain(value: unknown): unknown {
  if (typeof value === 'string' && /^[[{]/.test(value)) return plain(JSON.parse(value));
  if (Array.isArray(value)) return value.map(plain);
  if (value === null || typeof value !== 'object') return value;
  return Object.fromEntries(
    Object.entries(value)
      .sort(([one], [other]) => (one < other ? -1 : 1))
      .map(([name, member]) => [name, plain(member)]),
  );
}
