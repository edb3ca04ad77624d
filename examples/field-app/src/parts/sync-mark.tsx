import type { SyncState } from '@koinon/client';
import { useSyncState } from '@koinon/react';
import { Button } from '@mantine/core';
import {
  IconAntennaBarsOff,
  IconArrowsSplit2,
  IconCheck,
  IconClock,
  IconDeviceMobile,
  IconPlayerPause,
  IconRefresh,
} from '@tabler/icons-react';
import { usePlace } from '../leaving.tsx';
import { useReplica } from '../replica.ts';
import { counted, shownTime } from '../words.ts';

/** The state of the sync for a person, in a few words. */
export function syncWords({ phase, pending, conflicted, rejected, nextAttempt, progress }: SyncState): string {
  if ((phase === 'idle' || phase === 'live') && conflicted + rejected > 0) return `${conflicted + rejected} to decide`;
  const unsent = pending === 0 ? '' : `${pending} unsent`;
  const { done, of } = progress?.down ?? { done: 0, of: null };
  switch (phase) {
    case 'stopped':
      return 'Only here';
    case 'unlinked':
      return ['Sync is off', unsent].filter(Boolean).join(', ');
    case 'paused':
      return ['Paused', unsent].filter(Boolean).join(', ');
    case 'offline':
      return ['No signal', unsent].filter(Boolean).join(', ');
    case 'waiting':
      return [`Trying again ${nextAttempt ? shownTime(nextAttempt) : 'later'}`, unsent].filter(Boolean).join(', ');
    case 'held-back':
      return ['Not on this network', unsent].filter(Boolean).join(', ');
    case 'needs-auth':
      return ['Sign in to sync', unsent].filter(Boolean).join(', ');
    case 'needs-upgrade':
      return 'Update the app';
    case 'resending':
    case 'pushing':
      return `Sending ${counted(pending, 'edit')}`;
    case 'pulling':
      return of !== null && of > 200 ? `Fetching ${Math.floor((done / of) * 100)} %` : 'Fetching';
    case 'idle':
    case 'live':
      return unsent || 'All sent';
  }
}

const icons = {
  stopped: IconDeviceMobile,
  unlinked: IconDeviceMobile,
  paused: IconPlayerPause,
  offline: IconAntennaBarsOff,
  waiting: IconClock,
  'held-back': IconClock,
  'needs-auth': IconClock,
  'needs-upgrade': IconRefresh,
  resending: IconRefresh,
  pushing: IconRefresh,
  pulling: IconRefresh,
  idle: IconCheck,
  live: IconCheck,
} as const;

/** The state of the sync; leads to the page about it. */
export function SyncMark() {
  const state = useSyncState(useReplica());
  const { go } = usePlace();
  if (state === undefined) return null;
  const toDecide = state.conflicted + state.rejected;
  const isIdle = state.phase === 'idle' || state.phase === 'live';
  const Icon = isIdle && toDecide > 0 ? IconArrowsSplit2 : isIdle && state.pending > 0 ? IconClock : icons[state.phase];
  return (
    <Button
      size="compact-md"
      variant="subtle"
      // A long state takes two lines on a phone.
      h="auto"
      mih={30}
      maw={262}
      styles={{ label: { whiteSpace: 'normal', lineHeight: 1.2, textAlign: 'start' } }}
      leftSection={<Icon size={18} aria-hidden />}
      onClick={() => go(toDecide > 0 ? '/waiting' : '/device')}
      aria-live="polite"
    >
      {syncWords(state)}
    </Button>
  );
}
