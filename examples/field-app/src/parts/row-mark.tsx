import type { RowStatus } from '@koinon/core';
import { Badge } from '@mantine/core';
import { IconArrowsSplit2, IconHandStop, IconHourglass, IconSend } from '@tabler/icons-react';

/** The state of a row with the server, by shape and word; nothing for one that is as the server has it. */
export function RowMark({ sync }: { readonly sync: RowStatus<unknown> }) {
  const { status, isNew, blockedBy } = sync;
  if (status === 'synced') return null;
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
