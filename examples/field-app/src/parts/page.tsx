import { ActionIcon, Box, Group, Stack, Text, Title } from '@mantine/core';
import { IconArrowLeft } from '@tabler/icons-react';
import type { ReactNode } from 'react';
import { usePlace } from '../leaving.tsx';

/** A page of the app: where it leads back to, its title, what can be done, and its content. */
export function Page(props: {
  readonly title: string;
  readonly back?: string;
  readonly under?: string | undefined;
  readonly actions?: ReactNode;
  readonly children: ReactNode;
}) {
  const { go } = usePlace();
  return (
    <Stack gap="md">
      <Group justify="space-between" wrap="nowrap" align="flex-start">
        <Group gap="xs" wrap="nowrap" miw={0}>
          {props.back !== undefined && (
            <ActionIcon aria-label="Back" onClick={() => go(props.back as string)}>
              <IconArrowLeft />
            </ActionIcon>
          )}
          <Box miw={0}>
            <Title order={1} size="h3" lineClamp={2}>
              {props.title}
            </Title>
            {props.under && (
              <Text size="sm" c="dimmed">
                {props.under}
              </Text>
            )}
          </Box>
        </Group>
        <Group gap={4} wrap="nowrap">
          {props.actions}
        </Group>
      </Group>
      {props.children}
    </Stack>
  );
}
