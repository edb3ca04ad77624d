import { Button, Group, Text } from '@mantine/core';
import { hideNotification, showNotification } from '@mantine/notifications';
import type { FieldReplica } from './replica.ts';

const id = 'undo';

/** Says what was done, and offers to take it back. The next thing done takes its place: only the last can be undone. */
export function offerUndo(replica: FieldReplica, done: string): void {
  offerBack(done, () => replica.undo());
}

/** Says what was done, and offers a way back. */
export function offerBack(done: string, back: () => Promise<unknown>): void {
  hideNotification(id);
  const undo = async () => {
    hideNotification(id);
    try {
      await back();
    } catch (error) {
      showNotification({ color: 'red', message: (error as Error).message });
    }
  };
  showNotification({
    id,
    autoClose: 8_000,
    withBorder: true,
    message: (
      <Group justify="space-between" wrap="nowrap">
        <Text size="sm">{done}</Text>
        <Button size="compact-sm" variant="light" style={{ flexShrink: 0 }} onClick={undo}>
          Undo
        </Button>
      </Group>
    ),
  });
}

/** Says that something could not be done, and why. */
export function sayError(error: unknown): void {
  showNotification({ color: 'red', title: 'Not done', message: (error as Error).message });
}
