import net from 'node:net';
import { setTimeout as pause } from 'node:timers/promises';
import { openReplica, type Replica } from '@koinon/client';
import { type Apiaries, apiaries, apiaryName, hiveId, hivesEach, microseconds, stateOf } from './apiaries.ts';

// A process with many replicas of the load. Each is a whole replica of the library, in memory, with a live connection of its own.

/** A request to this process. Numbers of replicas and apiaries are those of the whole load. */
export type Asked =
  | { readonly ask: 'edit'; readonly perSecond: number }
  | { readonly ask: 'count' }
  | { readonly ask: 'figures' }
  | { readonly ask: 'ledger' }
  | { readonly ask: 'compare'; readonly states: readonly (readonly [apiary: number, state: string])[] };

/** The state of the replicas of this process at one moment. */
export interface Counted {
  readonly opened: number;
  readonly live: number;
  readonly pending: number;
}

/** The work since the figures were asked for last. */
export interface Figures {
  readonly edits: number;
  /** Rows that came from the server. */
  readonly delivered: number;
  /** Milliseconds from the edit until another replica has shown the row to whoever listens. */
  readonly shown: readonly number[];
}

/** The edits that the replicas of this process have made in all. */
export interface Ledger {
  readonly notes: readonly (readonly [id: string, edit: number])[];
  readonly frames: readonly (readonly [hive: string, added: number])[];
  readonly refused: number;
  readonly edits: number;
}

/** The answer of a comparison: how many replicas hold another state than the database, with one of them in words. */
export interface Compared {
  readonly different: number;
  readonly example: string | undefined;
}

const [url = '', first = '0', count = '0', replicasOfOne = '1'] = process.argv.slice(2);

/** Milliseconds between two looks at how many edits are due. */
const tick = 10;

/** Replicas that are opened at once. */
const openedAtOnce = 20;

/** One replica, and what its person has done. */
interface Device {
  readonly number: number;
  readonly apiary: number;
  readonly replica: Replica<Apiaries>;
  /** The notes that this person has written. */
  readonly own: string[];
  isLive: boolean;
  pending: number;
}

const devices: Device[] = [];
const notes = new Map<string, number>();
const frames = new Map<string, number>();
/** Edits in all, and until the figures were asked for last. */
let made = 0;
let madeBefore = 0;
let delivered = 0;
let shown: number[] = [];
let perSecond = 0;

/** Gives each connection an address of its own, as devices have: a server bounds what one address may do. */
function connectFromManyAddresses(): void {
  const connect = net.connect as (options: object) => net.Socket;
  let connections = Number(first);
  Object.assign(net, {
    connect(options: object) {
      connections++;
      const localAddress = `127.${1 + ((connections >> 14) % 200)}.${(connections >> 7) & 127}.${1 + (connections & 127)}`;
      return connect({ ...options, localAddress });
    },
  });
}

async function open(number: number): Promise<void> {
  const apiary = Math.floor(number / Number(replicasOfOne));
  const replica = await openReplica({
    schema: apiaries,
    server: url,
    token: () => String(number),
    sync: 'automatic',
  });
  const device: Device = { number, apiary, replica, own: [], isLive: false, pending: 0 };
  replica.listen('note', (events) => {
    const now = microseconds();
    for (const { origin, after } of events) {
      if (origin !== 'server') continue;
      delivered++;
      // The rows that were there before the load were edited by nobody.
      if (after !== null && after.edit > 0) shown.push((now - after.editedAt) / 1_000);
    }
  });
  replica.listen('hive', (events) => {
    delivered += events.filter(({ origin }) => origin === 'server').length;
  });
  replica.syncState().subscribe(({ rows: [state] }) => {
    device.isLive = state?.phase === 'live';
    device.pending = state?.pending ?? 0;
  });
  devices.push(device);
}

/** One edit of one person: a new note, a change of an own one, or frames that are added to a hive of all. */
async function edit({ number, apiary, replica, own }: Device): Promise<void> {
  const hive = hiveId(apiary, Math.floor(Math.random() * hivesEach));
  const kind = Math.random();
  made++;
  const values = { edit: made, editedAt: microseconds(), text: `Edit ${made}: calm, brood on six frames` };
  if (kind < 0.25) {
    await replica.add('hive', hive, 'frames', 1);
    frames.set(hive, (frames.get(hive) ?? 0) + 1);
  } else if (kind < 0.4 || own.length === 0) {
    const id = `note-${number}-${values.edit}`;
    await replica.insert('note', { id, apiary: apiaryName(apiary), hive, ...values });
    own.push(id);
    notes.set(id, values.edit);
  } else {
    const id = own[Math.floor(Math.random() * own.length)] as string;
    await replica.update('note', id, values);
    // Two edits of one note may be under way at once: the later one was called later.
    notes.set(id, Math.max(values.edit, notes.get(id) ?? 0));
  }
}

/** Edits at the rate that is asked for, by people who are chosen at random. */
async function editForEver(): Promise<void> {
  let due = 0;
  let at = performance.now();
  for (;;) {
    await pause(tick);
    const now = performance.now();
    due = Math.min(due + (perSecond * (now - at)) / 1_000, perSecond);
    at = now;
    for (; due >= 1; due--) {
      const device = devices[Math.floor(Math.random() * devices.length)] as Device;
      // A note of one's own that is not there yet cannot be edited: the first download comes first.
      if (device.isLive || device.own.length > 0) void edit(device);
    }
  }
}

async function compare(states: ReadonlyMap<number, string>): Promise<Compared> {
  const different: string[] = [];
  for (const { number, apiary, replica } of devices) {
    const [hives, written] = [await replica.rows({ from: 'hive' }), await replica.rows({ from: 'note' })];
    const state = stateOf(hives, written);
    if (state !== states.get(apiary))
      different.push(`replica ${number} holds ${state}, the database ${states.get(apiary)}`);
  }
  return { different: different.length, example: different[0] };
}

async function answer(asked: Asked): Promise<Counted | Figures | Ledger | Compared | undefined> {
  switch (asked.ask) {
    case 'edit':
      perSecond = asked.perSecond;
      return undefined;
    case 'count':
      return {
        opened: devices.length,
        live: devices.filter(({ isLive }) => isLive).length,
        pending: devices.reduce((sum, { pending }) => sum + pending, 0),
      };
    case 'figures': {
      const figures: Figures = { edits: made - madeBefore, delivered, shown };
      madeBefore = made;
      delivered = 0;
      shown = [];
      return figures;
    }
    case 'ledger': {
      let refused = 0;
      for (const { replica } of devices) refused += (await replica.rejections()).length;
      return { notes: [...notes], frames: [...frames], refused, edits: made };
    }
    case 'compare':
      return compare(new Map(asked.states));
  }
}

process.on('message', ({ id, ...asked }: Asked & { readonly id: number }) => {
  void answer(asked).then((answered) => process.send?.({ id, answered }));
});
process.once('disconnect', () => process.exit());
connectFromManyAddresses();
process.send?.('ready');
for (let n = 0; n < Number(count); n += openedAtOnce)
  await Promise.all(
    Array.from({ length: Math.min(openedAtOnce, Number(count) - n) }, (_, i) => open(Number(first) + n + i)),
  );
void editForEver();
