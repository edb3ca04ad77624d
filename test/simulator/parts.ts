import { Clock } from './clock.ts';
import { Device, type Way } from './device.ts';
import { Disk, type Storage } from './disk.ts';
import type { Ground } from './ground.ts';
import type { Settings } from './history.ts';

/** The parts of a simulation. */
export interface Parts {
  clock(): Clock;
  disk(): Promise<Storage>;
  device(
    index: number,
    disk: Storage,
    settings: Settings,
    clock: Clock,
    way: Way,
    owner: number,
    draw: () => number,
    ground: Ground,
  ): Device;
}

/** Devices, files, time and the network of this process. */
export const inProcess: Parts = {
  clock: () => new Clock(1_795_000_000_000),
  disk: () => Disk.empty(),
  device: (index, disk, settings, clock, way, owner, draw) =>
    new Device(index, disk, settings, clock, way, owner, draw),
};
