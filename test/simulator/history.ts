import { Random } from './random.ts';

/** The events of a history, each with numbers that say to what: they are taken modulo what there is. */
export type StepKind = keyof typeof often | keyof typeof onDemand;

export interface Step {
  readonly do: StepKind;
  readonly who: number;
  readonly a: number;
  readonly b: number;
  readonly c: number;
}

/** The fate of the requests of a sync. */
export type Fate = 'passes' | 'lost request' | 'lost reply' | 'sent twice' | 'late copy';

/** How a device is set up. */
export interface Settings {
  /** Tells whether its edits are joined before they are sent. */
  readonly isJoining: boolean;
  /** Tells whether it syncs by itself. */
  readonly isAutomatic: boolean;
  /** Milliseconds by which its clock is wrong. */
  readonly skew: number;
  /** Tells whether its file is open in two processes. */
  readonly isShared: boolean;
  /** Tells whether it has only the hives that it asks for at run time. */
  readonly isPartial: boolean;
}

/** A whole history: how its devices are set up, and what happens. */
export interface History {
  readonly seed: number;
  /** Tells whether the server has scopes, which take hives from its users and give them back. */
  readonly isScoped: boolean;
  /** Tells whether the schema gets its next version, on the server and on the devices one by one. */
  readonly isGrowing: boolean;
  readonly devices: readonly Settings[];
  readonly steps: readonly Step[];
}

/** How often each kind of step comes, beside the others. */
const often = {
  title: 6,
  notes: 6,
  card: 5,
  mass: 3,
  own: 6,
  frames: 6,
  mark: 3,
  visit: 6,
  'refused visit': 2,
  inspect: 5,
  'refused inspect': 1,
  'three hives': 4,
  'own between': 4,
  'rotate ranks': 3,
  'new hive': 2,
  'delete hive': 1,
  'delete visit': 1,
  words: 2,
  tool: 3,
  'delete tool': 1,
  draft: 2,
  resolve: 6,
  'resolve several': 2,
  unresolve: 1,
  undo: 4,
  redo: 1,
  revert: 3,
  'revert several': 1,
  discard: 2,
  resend: 1,
  sync: 18,
  'sync while editing': 4,
  'push only': 2,
  'pull only': 2,
  disconnect: 2,
  connect: 3,
  kill: 3,
  'kill later': 2,
  keep: 2,
  'put back': 1,
  copy: 0.5,
  office: 4,
  'office deletes': 0.5,
  wait: 6,
  backup: 0.4,
  restore: 0.4,
  'hide hive': 3,
  'other process': 5,
  'update app': 2,
  'update server': 2,
} as const;

/** The same for what a device asks for at run time. */
const onDemand = {
  hold: 6,
  'let go': 3,
  'new hive for two': 2,
  'ask for plants': 2,
  'office plants': 2,
  'new weather': 2,
  'refresh weather': 3,
} as const;

/** Steps that lead to trouble, one after the other on one device. */
const troubles: readonly (readonly StepKind[])[] = [
  ['refused visit', 'sync', 'revert', 'sync'],
  ['refused visit', 'sync', 'title', 'undo', 'sync'],
  ['refused visit', 'visit', 'sync', 'discard', 'sync'],
  ['inspect', 'title', 'words', 'sync'],
  ['refused inspect', 'title', 'sync', 'discard', 'sync'],
  ['title', 'sync', 'own', 'frames', 'sync', 'undo'],
  ['office', 'title', 'notes', 'own between', 'sync', 'resolve', 'unresolve', 'sync'],
  ['keep', 'visit', 'title', 'sync', 'put back', 'sync'],
  ['visit', 'copy', 'sync', 'undo'],
  ['visit', 'frames', 'hide hive', 'sync', 'hide hive', 'sync'],
  ['hide hive', 'sync', 'office', 'hide hive', 'title', 'sync'],
];

/** Makes up a history: runs of similar steps, since trouble comes where the same rows are touched again and again. */
export function makeHistory(seed: number): History {
  const random = new Random(seed);
  const isLive = random.next() < 0.3;
  const devices: Omit<Settings, 'isPartial'>[] = Array.from({ length: 2 + random.below(2) }, () => ({
    isJoining: random.next() < 0.4,
    isAutomatic: isLive && random.next() < 0.8,
    skew: random.next() < 0.2 ? Math.floor((random.next() - 0.5) * 7_200_000) : 0,
    isShared: random.next() < 0.2,
  }));
  const steps: Step[] = [];
  const length = 6 + random.below(random.next() < 0.2 ? 60 : 26);
  // A history has its favourites: the others come seldom.
  const weights = Object.fromEntries(
    Object.entries(often).map(([name, weight]) => [
      name,
      weight * (random.next() < 0.35 ? 2.5 : random.next() < 0.5 ? 0.4 : 1),
    ]),
  ) as Record<StepKind, number>;
  // Some are about disasters.
  if (random.next() < 0.1)
    for (const name of ['backup', 'restore', 'keep', 'put back', 'copy'] as const) weights[name] = 3;
  const isScoped = random.next() < 0.25;
  if (!isScoped) weights['hide hive'] = 0;
  const isGrowing = random.next() < 0.12;
  if (!isGrowing) weights['update app'] = weights['update server'] = 0;
  if (!devices.some(({ isShared }) => isShared)) weights['other process'] = 0;
  let row = random.below(3);
  while (steps.length < length) {
    if (random.next() < 0.3) row = random.below(4);
    const who = random.below(devices.length + (random.next() < 0.2 ? 1 : 0));
    if (random.next() < 0.04) {
      for (const kind of random.pick(troubles))
        steps.push({ do: kind, who, a: row, b: random.below(1_000), c: random.below(1_000) });
      continue;
    }
    const kind = random.weighted(weights);
    const runs = random.next() < 0.3 && kind !== 'copy' && kind !== 'restore' ? 1 + random.below(3) : 1;
    for (let n = 0; n < runs; n++)
      steps.push({
        do: kind,
        who,
        a: random.next() < 0.8 ? row : random.below(4),
        b: random.below(1_000),
        c: random.below(1_000),
      });
  }
  return { seed, isScoped, isGrowing, ...withDemands(seed, devices, steps) };
}

/** In some histories devices ask for rows at run time as well. The others are what they were without that. */
function withDemands(
  seed: number,
  devices: readonly Omit<Settings, 'isPartial'>[],
  steps: readonly Step[],
): Pick<History, 'devices' | 'steps'> {
  const random = new Random(seed ^ 0x2545f491);
  const isDemanding = random.next() < 0.3;
  const isPartial = () => isDemanding && random.next() < 0.6;
  const all = devices.map((device) => ({ ...device, isPartial: isPartial() }));
  if (!isDemanding) return { devices: all, steps };
  const step = (kind: StepKind, who: number): Step => ({
    ...{ do: kind, who, a: random.below(3), b: random.below(1_000), c: random.below(1_000) },
  });
  const among = steps.flatMap((each) =>
    random.next() < 0.3 ? [step(random.weighted(onDemand), random.next() < 0.7 ? each.who : 1), each] : [each],
  );
  // A device without a hive has little to do.
  const first = all.flatMap((_, who) => (random.next() < 0.8 ? [step('hold', who), step('sync', who)] : []));
  return { devices: all, steps: [...first, ...among] };
}
