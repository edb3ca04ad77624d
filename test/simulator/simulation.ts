import { checkEnd, checkNotStuck, checkNow, checkRefused } from './checks.ts';
import { decisions, resolve } from './decisions.ts';
import type { Device } from './device.ts';
import { edits } from './edits.ts';
import type { Ground } from './ground.ts';
import type { History, Step, StepKind } from './history.ts';
import { onDemand } from './on-demand.ts';
import { inProcess, type Parts } from './parts.ts';
import { newNotes, register } from './schema.ts';
import { type Performs, Stage } from './stage.ts';
import { hives, surroundings } from './surroundings.ts';
import { syncs } from './syncs.ts';

const performs: Performs<StepKind> = { ...edits, ...decisions, ...syncs, ...surroundings, ...onDemand };

/** One history from its beginning to its end. */
export class Simulation {
  private readonly history: History;
  private readonly stage: Stage;
  private checks = 0;

  /** @param parts what devices are made of: simulated ones in this process, or real processes and files. */
  constructor(history: History, ground: Ground, parts: Parts = inProcess) {
    this.history = history;
    this.stage = new Stage(history, ground, parts);
  }

  /** The events so far, to be read. */
  get log(): readonly string[] {
    return this.stage.log;
  }

  /** Runs the history to its end. @throws Violation. */
  async run(): Promise<void> {
    const { stage } = this;
    try {
      await this.seed();
      for (const settings of this.history.devices) {
        const device = stage.addDevice(await stage.parts.disk(), settings);
        await device.open();
        stage.acting = device;
        await stage.until(device.replica.sync());
      }
      for (const step of this.history.steps) await this.check(await this.take(step));
      await this.settle();
    } finally {
      for (const device of stage.devices) {
        await device.end();
        await device.disk.release();
      }
      await stage.clock.pass(0);
      await stage.ground.clear();
      // The next history begins with the first version.
      if (stage.ground.version === 2) stage.ground.used = Number.POSITIVE_INFINITY;
    }
  }

  private async seed(): Promise<void> {
    const { ground } = this.stage;
    const columns = register.tables.hive.entries.map(([name]) => `"${name}"`).join();
    await ground.write("INSERT INTO site VALUES ('s', 'Marrowfen')");
    for (let n = 0; n < hives; n++)
      await ground.write(
        `INSERT INTO hive (id, ${columns}) VALUES ('h${n}', 's', '', '${newNotes}', NULL, 0, '', '', '', '', ${n + 1}, 0, 0, 0, '[]')`,
      );
    await ground.write("INSERT INTO tool VALUES ('t0', 'smoker', 0)");
  }

  /** Takes one step; returns the device that it was taken on. */
  private async take({ do: kind, who, ...chance }: Step): Promise<Device> {
    const { devices, log } = this.stage;
    const device = devices[who % devices.length] as Device;
    // One that syncs by itself may have been killed meanwhile.
    for (const each of devices) await this.stage.reopen(each);
    log.push(`${log.length}. device ${device.index}: ${kind} (${chance.a}, ${chance.b}, ${chance.c})`);
    this.stage.acting = device;
    await performs[kind](this.stage, device, chance);
    await this.stage.reopen(device);
    return device;
  }

  private check(...devices: readonly Device[]): Promise<void> {
    return checkNow(this.stage, devices, () => this.checks++ % 3 === 0);
  }

  /** Everybody comes back and decides what is to be decided: then all hold the same, and everything that was done counts. */
  private async settle(): Promise<void> {
    const { stage } = this;
    const { devices } = stage;
    stage.log.push('all settle');
    if (stage.isScoped) await stage.ground.write('DELETE FROM keeper');
    if (stage.isGrowing) await stage.ground.grow();
    for (const device of devices) {
      if (stage.ground.version === 2) await device.update();
      await stage.reopen(device);
      device.disk.killAfter = Number.POSITIVE_INFINITY;
      device.fates = [];
      device.connect(true);
    }
    let isQuiet = false;
    for (let round = 0; round < 14 && !isQuiet; round++) {
      isQuiet = true;
      for (const device of devices) {
        if (!(await this.settleOne(device, round))) isQuiet = false;
        await this.check(device);
      }
    }
    for (const device of devices) {
      stage.acting = device;
      await stage.until(device.replica.sync());
    }
    // A query that is followed is asked again when the server says that its rows have moved.
    if (devices.some(({ plants }) => plants !== undefined)) await stage.clock.pass(10_000);
    await this.check(...devices);
    await checkEnd(stage, isQuiet);
  }

  /** Syncs and decides; returns whether there was nothing to do. */
  private async settleOne(device: Device, round: number): Promise<boolean> {
    const { stage } = this;
    const { replica } = device;
    stage.acting = device;
    let isQuiet = true;
    const report = await stage.until(replica.sync());
    if (report === undefined) await stage.clock.pass(5_000);
    else if (!device.isAutomatic) await checkNotStuck(stage, device);
    await this.check(device);
    for (const rejection of (await stage.until(replica.rejections())) ?? []) {
      isQuiet = false;
      checkRefused(stage, rejection);
      await stage.removing(device, () => replica.discard(rejection.transaction, { dependent: 'take back' }));
    }
    if (((await stage.until(replica.conflicts())) ?? []).length > 0) {
      isQuiet = false;
      await resolve(stage, device, 9, 0, round > 2 ? 1 : stage.random.below(1_000));
      // The server's values may collide with what is not in conflict: then all of it has to go.
      if (round > 5) await stage.removing(device, () => replica.revertAll());
    }
    const moved = report?.up.applied ?? 1;
    return isQuiet && moved === 0 && (await stage.origins(device)).length === 0;
  }
}
