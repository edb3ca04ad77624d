import type { RowStatus } from '@koinon/core';
import { useSyncState } from '@koinon/react';
import { Badge } from '@mantine/core';
import { IconArrowsSplit2, IconHandStop, IconHourglass, IconSend } from '@tabler/icons-react';
import { useReplica } from '../replica.ts';

/** The state of a row with the server, by shape and word; nothing for one that is as the server has it, or where there is no server. */
export function RowMark({ sync }: { readonly sync: RowStatus<unknown> }) {
  const { status, isNew, blockedBy } = sync;
  const phase = useSyncState(useReplica())?.phase;
  // Without a server nothing is to be sent.
  if (status === 'synced' || phase === 'stopped') return null;
  const [color, words, Icon] =
    status === 'conflicted'
      ? (['grape.8', 'Changed twice', IconArrowsSplit2] as const)
      : status === 'rejected'
        ? (['red.8', 'Refused', IconHandStop] as const)
        : blockedBy !== null
          ? (['gray', 'Held up', IconHourglass] as const)
          : (['gray', isNew ? 'New, unsent' : 'Unsent', IconSend] as const);
  return (
    <Badge
      color={color}
      variant={status === 'pending' ? 'outline' : 'filled'}
      leftSection={<Icon size={12} aria-hidden />}
    >
      {words}
    </Badge>
  );
}
