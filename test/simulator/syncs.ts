import { checkNotStuck } from './checks.ts';
import { decisions } from './decisions.ts';
import type { Device } from './device.ts';
import { edits } from './edits.ts';
import type { Fate } from './history.ts';
import { onDemand } from './on-demand.ts';
import type { Chance, Performs, Stage } from './stage.ts';

// Syncs over a network that loses, repeats and holds back.

type Kind = 'sync' | 'push only' | 'pull only' | 'sync while editing';

export const syncs: Performs<Kind> = {
  sync: (stage, device, chance) => sync(stage, device, 'both', chance),
  'push only': (stage, device, chance) => sync(stage, device, 'push', chance),
  'pull only': (stage, device, chance) => sync(stage, device, 'pull', chance),
  async 'sync while editing'(stage, device, chance) {
    const { b, c } = chance;
    device.fates = fatesOf(chance);
    device.isSyncing = true;
    const syncing = stage.until(device.replica.sync());
    const { title, own, frames, visit, inspect, notes, 'rotate ranks': rotate } = edits;
    const kinds = Object.entries({
      ...{ title, own, frames, visit, inspect, notes, undo: decisions.undo, rotate },
      ...(device.isPartial && { hold: onDemand.hold, 'let go': onDemand['let go'] }),
    });
    for (let i = 0; i < 1 + (b % 4); i++) {
      await stage.clock.pass(stage.random.below(40));
      if (device.process.isDead) break;
      const isOther = device.isShared && (b + i) % 2 === 0;
      if (isOther) await device.switch();
      const [name, perform] = kinds[(c + i) % kinds.length] as (typeof kinds)[0];
      stage.log.push(`   meanwhile: ${name}`);
      await perform(stage, device, chance);
      if (isOther) await device.switch();
    }
    await syncing;
    device.isSyncing = false;
    device.fates = [];
  },
};

async function sync(stage: Stage, device: Device, direction: 'both' | 'push' | 'pull', chance: Chance): Promise<void> {
  device.fates = fatesOf(chance);
  const isClean = device.fates.every((fate) => fate === 'passes') && device.isConnected;
  const report = await stage.until(device.replica.sync({ direction }));
  device.fates = [];
  if (report && direction === 'both' && isClean && !device.isAutomatic) await checkNotStuck(stage, device);
}

function fatesOf({ b, c }: Chance): Fate[] {
  const fates: Fate[] = ['passes', 'passes', 'passes', 'lost request', 'lost reply', 'sent twice', 'late copy'];
  if (b % 2) return [];
  return [0, 1, 2, 3].map((i) => fates[(b * 7 + c * (i + 1)) % fates.length] as Fate);
}
