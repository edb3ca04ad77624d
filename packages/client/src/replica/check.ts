import type { Schema } from '@koinon/core';
import type { SyncState } from '../sync/state.ts';
import type { Replica } from './replica.ts';

/** One thing that {@link Replica.check} has found. */
export interface DeviceFinding {
  /** A stable name. */
  readonly name: string;
  readonly level: 'ok' | 'warning' | 'failure';
  readonly message: string;
  /** What mends it; null where nothing has to be done. */
  readonly cure: string | null;
}

/** Milliseconds after which an edit that was not sent is worth a word, and transactions that are looked through for it. */
const oldEdit = 24 * 3_600_000;
const mostLookedThrough = 500;
/** The share of the room from which on the storage counts as nearly full. */
const nearlyFull = 0.9;

/** Looks at a replica from the device's side. */
export async function checkReplica<S extends Schema>(replica: Replica<S>, now: number): Promise<DeviceFinding[]> {
  const state = await stateOf(replica);
  // Edits carry the server's time: a device's own clock may be wrong.
  const atServer = now + (state?.clockDifference ?? 0);
  const findings = [
    ...(await storageFindings(replica)),
    ...(state === undefined ? [] : syncFindings(state)),
    ...(await unsentFindings(replica, atServer)),
  ];
  return findings.length > 0
    ? findings
    : [{ name: 'sound', level: 'ok', message: 'Nothing is wrong with this device.', cure: null }];
}

async function storageFindings<S extends Schema>(replica: Replica<S>): Promise<DeviceFinding[]> {
  const { problem, isPersistent, quota, usage } = await replica.storage();
  const findings: DeviceFinding[] = [];
  if (problem !== null)
    findings.push({
      name: 'in-memory',
      level: 'failure',
      message: `The data is in memory, and is gone when the app is closed: ${problem}`,
      cure: 'Open the app where it may keep files: no private window, and no storage that is switched off.',
    });
  else if (isPersistent === false)
    findings.push({
      name: 'may-be-cleared',
      level: 'warning',
      message: 'The platform may clear the data when it needs room.',
      cure: 'Ask for persistent storage (`navigator.storage.persist()`), or have the app installed.',
    });
  if (quota !== null && usage !== null && usage > quota * nearlyFull)
    findings.push({
      name: 'nearly-full',
      level: 'warning',
      message: `The storage is nearly full: ${usage} of ${quota} bytes are used.`,
      cure: 'Free some room.',
    });
  return findings;
}

/** Phases in which the device does not sync, and why that is. */
const standing: Readonly<Partial<Record<SyncState['phase'], Omit<DeviceFinding, 'name'>>>> = {
  stopped: { level: 'warning', message: 'This replica has no server.', cure: 'Open it with `server` to sync.' },
  unlinked: { level: 'warning', message: 'The tie to the server was ended.', cure: '`replica.link()` ties it again.' },
  paused: { level: 'warning', message: 'The sync is paused.', cure: '`replica.resumeSync()` goes on.' },
  'needs-auth': {
    level: 'failure',
    message: 'The server knows nobody of this token, or none was given.',
    cure: 'Sign in, then call `replica.authChanged()`.',
  },
  'needs-upgrade': {
    level: 'failure',
    message: 'The server does not take apps this old.',
    cure: 'Update the app; unsent edits are kept.',
  },
};

async function stateOf<S extends Schema>(replica: Replica<S>): Promise<SyncState | undefined> {
  for await (const { rows } of replica.syncState()) return rows[0];
  return undefined;
}

function syncFindings(state: SyncState): DeviceFinding[] {
  const findings: DeviceFinding[] = [];
  const stands = standing[state.phase];
  if (stands) findings.push({ name: state.phase, ...stands });
  else if (state.error !== null)
    findings.push({
      name: state.error.code,
      level: 'warning',
      message: `The last sync has failed: ${state.error.message}`,
      cure:
        state.nextAttempt === null
          ? 'Look at the address and the network.'
          : `It is tried again at ${state.nextAttempt}.`,
    });
  if (state.isClockWrong)
    findings.push({
      name: 'clock',
      level: 'warning',
      message: `The clock of this device differs by ${Math.round(Math.abs(state.clockDifference ?? 0) / 60_000)} minutes from the server's.`,
      cure: 'Set the clock. Edits are ordered by the server’s clock all the same.',
    });
  return findings;
}

async function unsentFindings<S extends Schema>(replica: Replica<S>, now: number): Promise<DeviceFinding[]> {
  const { pending, conflicted, rejected } = await replica.status();
  const findings: DeviceFinding[] = [];
  const many = pending > mostLookedThrough;
  const waiting = pending === 0 || many ? [] : await replica.outbox();
  const [oldest] = waiting.map(({ editedAt }) => editedAt).sort();
  if (many || (oldest !== undefined && now - Date.parse(oldest) > oldEdit))
    findings.push({
      name: 'unsent',
      level: 'warning',
      message: `${pending} transactions wait to be sent${oldest === undefined ? '' : `, the oldest since ${oldest}`}.`,
      cure: '`replica.outbox()` says why each waits.',
    });
  if (rejected > 0)
    findings.push({
      name: 'refused',
      level: 'warning',
      message: `The server has refused ${rejected} transactions.`,
      cure: 'Correct the rows, or take the edits back: `replica.rejections()`.',
    });
  if (conflicted > 0)
    findings.push({
      name: 'conflicts',
      level: 'warning',
      message: `${conflicted} rows are in conflict.`,
      cure: 'Decide: `replica.conflicts()`, `replica.resolve(…)`.',
    });
  return findings;
}
