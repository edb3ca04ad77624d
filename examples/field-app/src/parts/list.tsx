import { Anchor, Box, Group, Loader, Paper, Stack, Text } from '@mantine/core';
import { IconChevronRight } from '@tabler/icons-react';
import type { ReactNode } from 'react';
import { usePlace } from '../leaving.tsx';

/** A list that is loading, empty, failed, or there. */
export function List(props: {
  readonly label: string;
  readonly shown: { readonly rows: readonly unknown[]; readonly ready: boolean; readonly error: Error | undefined };
  readonly empty: string;
  readonly children: ReactNode;
}) {
  const { rows, ready, error } = props.shown;
  if (error) return <Text c="red">{error.message}</Text>;
  if (!ready && rows.length === 0) return <Loader size="sm" role="status" aria-label="Loading" />;
  if (rows.length === 0) return <Text c="dimmed">{props.empty}</Text>;
  return (
    <Stack component="ul" gap="xs" m={0} p={0} aria-label={props.label}>
      {props.children}
    </Stack>
  );
}

/** One entry of a list, which leads somewhere. */
export function Entry(props: {
  readonly to: string;
  readonly title: string;
  readonly under?: string;
  readonly marks?: ReactNode;
}) {
  const { go } = usePlace();
  return (
    <Paper component="li" withBorder style={{ listStyle: 'none' }}>
      <Anchor
        href={`#${props.to}`}
        underline="never"
        c="inherit"
        display="block"
        p="sm"
        onClick={(event) => {
          event.preventDefault();
          go(props.to);
        }}
      >
        <Group justify="space-between" wrap="nowrap">
          {/* On a phone the marks go below a title that they would leave no room for. */}
          <Group flex={1} miw={0} justify="space-between" gap="xs">
            <Box flex="1 1 11rem" miw={0}>
              <Text fw={600} truncate>
                {props.title}
              </Text>
              {props.under && (
                <Text size="sm" c="dimmed" truncate>
                  {props.under}
                </Text>
              )}
            </Box>
            {props.marks && <Group gap="xs">{props.marks}</Group>}
          </Group>
          <IconChevronRight size={18} aria-hidden style={{ flexShrink: 0 }} />
        </Group>
      </Anchor>
    </Paper>
  );
}
