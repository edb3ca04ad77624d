import { useEffect, useSyncExternalStore } from 'react';

/** The devices on the page. */
export const devices = ['runa', 'teodor'] as const;
export type Device = (typeof devices)[number];
export const names: Readonly<Record<Device, string>> = { runa: 'Runa', teodor: 'Teodor' };

/** One line of the log. */
export interface Line {
  readonly number: number;
  readonly at: number;
  readonly who: string;
  readonly kind:
    | 'up'
    | 'down'
    | 'realtime'
    | 'photo'
    | 'action'
    | 'merged'
    | 'conflicted'
    | 'refused'
    | 'saved'
    | 'shown'
    | 'sql'
    | 'office'
    | 'signal';
  readonly text: string;
}

/** The state of a device. */
export interface DeviceState {
  readonly isOn: boolean;
  readonly phase: string;
  readonly pending: number;
  readonly conflicted: number;
  readonly rejected: number;
}

/** A line of the server's log. */
interface Told {
  readonly what: 'pull' | 'push' | 'window' | 'content' | 'sql' | 'office' | 'signal';
  readonly way?: 'up' | 'down';
  readonly at: number;
  readonly device?: Device;
  readonly rows?: number;
  readonly bytes?: number;
  readonly took?: number;
  readonly changes?: number;
  readonly outcomes?: readonly string[];
  readonly actions?: readonly { readonly name: string; readonly outcome: string }[];
  readonly sql?: string;
  readonly values?: readonly unknown[];
  readonly written?: number;
  readonly isOn?: boolean;
}

/** A message of a framed device. */
interface Said {
  readonly what: 'shown' | 'saved' | 'state' | 'failed';
  readonly at: number;
  readonly took?: number;
  readonly table?: string;
  readonly id?: string;
  /** How many rows, where there are too many to tell of each. */
  readonly rows?: number;
  readonly kind?: string;
  readonly origin?: 'device' | 'server';
  readonly phase?: string;
  readonly pending?: number;
  readonly conflicted?: number;
  readonly rejected?: number;
  readonly message?: string;
}

/** Everything the page shows of what happens, put together from the server's log and from what the devices say. */
class Happenings {
  lines: readonly Line[] = [];
  states: Readonly<Record<Device, DeviceState>>;
  private readonly listeners = new Set<() => void>();
  private number = 0;
  /** When each row was last edited, and where: until the other sides show it. */
  private readonly edits = new Map<string, { readonly at: number; readonly by: string }>();
  private officeAt = 0;

  constructor() {
    const state: DeviceState = { isOn: true, phase: 'opening', pending: 0, conflicted: 0, rejected: 0 };
    this.states = { runa: state, teodor: state };
  }

  readonly subscribe = (changed: () => void): (() => void) => {
    this.listeners.add(changed);
    return () => this.listeners.delete(changed);
  };

  /** Takes a line of the server's log. */
  tell(told: Told): void {
    const who = told.device ? names[told.device] : 'Server';
    const { at } = told;
    if (told.what === 'signal' && told.device) {
      this.states = { ...this.states, [told.device]: { ...this.states[told.device], isOn: told.isOn === true } };
      this.add(at, who, 'signal', told.isOn ? 'has a signal again' : 'has no signal');
    } else if (told.what === 'pull') {
      const size = told.bytes === undefined ? '' : `, ${(told.bytes / 1000).toFixed(1)} kB`;
      this.add(at, who, 'down', `${counted(told.rows, 'row')} down${size}, ${told.took?.toFixed(1)} ms`);
    } else if (told.what === 'push') {
      const count = (outcome: string) => told.outcomes?.filter((each) => each === outcome).length ?? 0;
      this.add(at, who, 'up', `${counted(told.changes, 'change')} up, ${told.took?.toFixed(1)} ms`);
      for (const { name, outcome } of told.actions ?? [])
        this.add(at, who, 'action', `asked for ${name}: ${actionWords[outcome] ?? outcome}`);
      if (count('stale') > 0) this.add(at, who, 'merged', `${count('stale')} overtaken: pulled and merged`);
      if (count('rejected') > 0) this.add(at, who, 'refused', `${count('rejected')} refused by the office’s rules`);
    } else if (told.what === 'window' && told.device && (told.rows ?? 0) > 0)
      this.add(at, who, 'realtime', `${counted(told.rows, 'row')} without asking`);
    else if (told.what === 'content')
      this.add(at, who, 'photo', `content of ${((told.bytes ?? 0) / 1000).toFixed(1)} kB ${told.way}`);
    else if (told.what === 'sql') this.add(at, 'Server', 'sql', withValues(told.sql ?? '', told.values ?? []));
    else if (told.what === 'office') {
      this.officeAt = at;
      this.add(at, 'Office', 'office', `${told.sql} (${told.written} written)`);
    }
  }

  /** Takes what a device says. */
  hear(device: Device, said: Said): void {
    const who = names[device];
    if (said.what === 'saved') this.add(said.at, who, 'saved', `saved in ${said.took?.toFixed(1)} ms`);
    else if (said.what === 'failed') this.add(said.at, who, 'refused', said.message ?? '');
    else if (said.rows !== undefined) this.add(said.at, who, 'shown', `shows ${said.rows} rows of ${said.table}`);
    else if (said.what === 'shown') {
      const row = `${said.table} ${said.id}`;
      if (said.origin === 'device') this.edits.set(row, { at: said.at, by: device });
      else {
        const edit = this.edits.get(row);
        const since = Math.max(edit && edit.by !== device ? edit.at : 0, this.officeAt);
        const took = said.at - since;
        const time = since > 0 && took < 60_000 ? ` ${Math.max(0, took).toFixed(0)} ms after the edit` : '';
        this.add(said.at, who, 'shown', `shows ${row}${time}`);
      }
    } else {
      const { isOn, conflicted } = this.states[device];
      const { phase = '', pending = 0, rejected = 0 } = said;
      if ((said.conflicted ?? 0) > conflicted) this.add(said.at, who, 'conflicted', 'is asked to decide');
      this.states = { ...this.states, [device]: { isOn, phase, pending, conflicted: said.conflicted ?? 0, rejected } };
      this.changed();
    }
  }

  private add(at: number, who: string, kind: Line['kind'], text: string): void {
    this.lines = [{ number: ++this.number, at, who, kind, text }, ...this.lines].slice(0, 300);
    this.changed();
  }

  private changed(): void {
    for (const each of [...this.listeners]) each();
  }
}

/** The outcomes of actions. */
const actionWords: Readonly<Record<string, string>> = {
  applied: 'the office has done it',
  'applied-before': 'the office had done it before',
  rejected: 'the office has refused it',
  deferred: 'it waits for the office',
  blocked: 'it waits for an earlier edit',
};

const counted = (count = 0, word: string) => `${count} ${word}${count === 1 ? '' : 's'}`;

/** A statement as one would type it. */
function withValues(sql: string, values: readonly unknown[]): string {
  const literal = (value: unknown) =>
    value === null || value === undefined ? 'NULL' : typeof value === 'number' ? String(value) : `'${String(value)}'`;
  let next = 0;
  return sql
    .replace(/\$(\d+)(::\w+)?/g, (_, number: string) => literal(values[Number(number) - 1]))
    .replace(/\?/g, () => literal(values[next++]));
}

const happenings = new Happenings();

/** The events so far, kept up. */
export function useHappenings(): Pick<Happenings, 'lines' | 'states'> {
  const lines = useSyncExternalStore(happenings.subscribe, () => happenings.lines);
  const states = useSyncExternalStore(happenings.subscribe, () => happenings.states);
  useEffect(() => {
    const events = new EventSource('./workbench/events');
    events.onmessage = ({ data }) => happenings.tell(JSON.parse(data as string) as Told);
    const hear = ({ source, origin, data }: MessageEvent<Said>) => {
      const device = devices.find((name) => frameOf(name)?.contentWindow === source);
      if (device && origin === location.origin) happenings.hear(device, data);
    };
    addEventListener('message', hear);
    return () => {
      events.close();
      removeEventListener('message', hear);
    };
  }, []);
  return { lines, states };
}

/** The frame of a device. */
export function frameOf(device: Device): HTMLIFrameElement | null {
  return document.getElementById(`frame-${device}`) as HTMLIFrameElement | null;
}

/** Asks a device to do something, as if its owner did. */
export function ask(device: Device, what: object): void {
  frameOf(device)?.contentWindow?.postMessage(what, location.origin);
}

/** Gives a device a signal, or takes it away. */
export async function setSignal(device: Device, isOn: boolean): Promise<void> {
  await fetch('./workbench/signal', {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ device, isOn }),
  });
}

/** Runs SQL on the server's database. @throws Error with the database's words. */
export async function runSql(
  sql: string,
): Promise<{ readonly rows: readonly Record<string, unknown>[]; readonly written: number }> {
  const response = await fetch('./workbench/sql', {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ sql }),
  });
  const answer = (await response.json()) as { message?: string; rows: Record<string, unknown>[]; written: number };
  if (!response.ok) throw new Error(answer.message);
  return answer;
}
