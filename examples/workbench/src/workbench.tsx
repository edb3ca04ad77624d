import { Badge, Box, Button, Group, ScrollArea, Stack, Switch, Text, TextInput, Title } from '@mantine/core';
import {
  IconAlertTriangle,
  IconAntennaBars5,
  IconAntennaBarsOff,
  IconArrowDown,
  IconArrowsSplit2,
  IconArrowUp,
  IconBolt,
  IconCamera,
  IconDatabase,
  IconDeviceFloppy,
  IconEye,
  IconGavel,
  IconGitMerge,
  IconHandStop,
} from '@tabler/icons-react';
import { useState } from 'react';
import { type Device, type Line, names, runSql, setSignal, useHappenings } from './happenings.ts';
import { ServerTable } from './server-table.tsx';
import { steps } from './story.ts';

/** Two devices, and the server between them. */
export function Workbench() {
  const { lines, states } = useHappenings();
  return (
    <Box h="100dvh" p={6} style={{ display: 'flex', flexDirection: 'column', gap: 6 }}>
      <Story />
      <Box
        style={{ flex: 1, display: 'grid', gridTemplateColumns: '340px minmax(0, 1fr) 340px', gap: 8, minHeight: 0 }}
      >
        <DeviceColumn device="runa" state={states.runa} />
        <Stack gap={4} mih={0} component="main">
          <ServerTable />
          <Sql />
          <Log lines={lines} />
        </Stack>
        <DeviceColumn device="teodor" state={states.teodor} />
      </Box>
    </Box>
  );
}

/** The steps of the story, each of which can be done any time. */
function Story() {
  const [running, setRunning] = useState<string>();
  const [told, setTold] = useState('Change something on one device, or take a step of the story.');
  return (
    <Group gap={6} wrap="nowrap" component="header">
      <Title order={1} size="h5" style={{ whiteSpace: 'nowrap' }}>
        Workbench
      </Title>
      {steps.map(({ name, says, run }) => (
        <Button
          flex="none"
          key={name}
          size="compact-xs"
          variant="default"
          loading={running === name}
          onClick={async () => {
            setRunning(name);
            setTold(says);
            try {
              await run();
            } catch (error) {
              setTold((error as Error).message);
            }
            setRunning(undefined);
          }}
        >
          {name}
        </Button>
      ))}
      <Text size="xs" c="dimmed" truncate title={told} role="status">
        {told}
      </Text>
    </Group>
  );
}

/** One device in its frame, with its signal. */
function DeviceColumn({
  device,
  state,
}: {
  readonly device: Device;
  readonly state: ReturnType<typeof useHappenings>['states'][Device];
}) {
  const { isOn, phase, pending, conflicted, rejected } = state;
  return (
    <Stack gap={4} mih={0} component="section" aria-label={names[device]}>
      <Group justify="space-between" wrap="nowrap" gap={4}>
        <Group gap={6} wrap="nowrap">
          <Text fw={700}>{names[device]}</Text>
          <Text size="xs" c="dimmed" data-testid={`state-${device}`} style={{ whiteSpace: 'nowrap' }}>
            {[phase, pending > 0 && `${pending} unsent`].filter(Boolean).join(', ')}
          </Text>
          {conflicted > 0 && <IconArrowsSplit2 size={16} color="purple" aria-label={`${conflicted} to decide`} />}
          {rejected > 0 && <IconHandStop size={16} color="crimson" aria-label={`${rejected} refused`} />}
        </Group>
        <Switch
          size="md"
          label="Signal"
          labelPosition="left"
          aria-label={`Signal of ${names[device]}`}
          checked={isOn}
          onChange={(event) => setSignal(device, event.currentTarget.checked)}
          thumbIcon={isOn ? <IconAntennaBars5 size={12} aria-hidden /> : <IconAntennaBarsOff size={12} aria-hidden />}
        />
      </Group>
      <iframe
        id={`frame-${device}`}
        title={`${names[device]}’s field book`}
        src={`./field/?server=/signal/${device}&members=/member/${device}&name=${device}&told#/hive/hive-001`}
        style={{
          flex: 1,
          border: '2px solid var(--mantine-color-gray-4)',
          borderRadius: 12,
          background: 'white',
          zoom: 0.8,
        }}
      />
    </Stack>
  );
}

/** The office's hand on the server's database. */
function Sql() {
  const [sql, setSql] = useState("UPDATE hive SET strength = 9 WHERE id = 'hive-001'");
  const [said, setSaid] = useState('');
  const run = async () => {
    try {
      const { rows, written } = await runSql(sql);
      setSaid(rows.length > 0 ? JSON.stringify(rows[0]) : `${written} rows written`);
    } catch (error) {
      setSaid((error as Error).message);
    }
  };
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        void run();
      }}
    >
      <Group gap={4} wrap="nowrap">
        <TextInput
          style={{ flex: 1 }}
          size="xs"
          ff="monospace"
          aria-label="SQL on the server’s database"
          leftSection={<IconDatabase size={14} aria-hidden />}
          value={sql}
          onChange={(event) => setSql(event.currentTarget.value)}
        />
        <Button size="xs" type="submit">
          Run SQL
        </Button>
      </Group>
      <Text size="xs" c="dimmed" truncate mih={18} data-testid="sql-answer">
        {said}
      </Text>
    </form>
  );
}

const kinds: Readonly<Record<Line['kind'], readonly [typeof IconArrowUp, string, string]>> = {
  up: [IconArrowUp, 'blue.8', 'up'],
  down: [IconArrowDown, 'teal.8', 'down'],
  realtime: [IconBolt, 'orange.8', 'realtime'],
  photo: [IconCamera, 'teal.8', 'photo'],
  action: [IconGavel, 'blue.8', 'action'],
  merged: [IconGitMerge, 'grape.8', 'merged'],
  conflicted: [IconArrowsSplit2, 'grape.8', 'conflicted'],
  refused: [IconHandStop, 'red.8', 'refused'],
  saved: [IconDeviceFloppy, 'gray.7', 'saved'],
  shown: [IconEye, 'gray.7', 'shown'],
  sql: [IconDatabase, 'gray.7', 'sql'],
  office: [IconAlertTriangle, 'yellow.9', 'office'],
  signal: [IconAntennaBars5, 'gray.7', 'signal'],
};

const clock = new Intl.DateTimeFormat(undefined, { timeStyle: 'medium' });

/** The rows that have travelled, last first. */
function Log({ lines }: { readonly lines: readonly Line[] }) {
  return (
    <ScrollArea
      viewportProps={{ tabIndex: 0 }}
      style={{ flex: 1, minHeight: 0 }}
      aria-label="What travelled"
      role="log"
    >
      {lines.length === 0 && (
        <Text size="xs" c="dimmed">
          What travels is told here.
        </Text>
      )}
      {lines.map(({ number, at, who, kind, text }) => {
        const [Icon, color, word] = kinds[kind];
        return (
          <Group key={number} gap={6} wrap="nowrap" fz="xs" align="baseline">
            <Text
              span
              size="xs"
              c="dimmed"
              style={{ fontVariantNumeric: 'tabular-nums', whiteSpace: 'nowrap', flexShrink: 0 }}
            >
              {clock.format(at)}
            </Text>
            <Badge
              size="xs"
              color={color}
              variant="outline"
              leftSection={<Icon size={10} aria-hidden />}
              miw={86}
              style={{ flexShrink: 0 }}
            >
              {word}
            </Badge>
            <Text span size="xs" fw={600} style={{ flexShrink: 0 }}>
              {who}
            </Text>
            <Text span size="xs" ff={kind === 'sql' || kind === 'office' ? 'monospace' : 'text'} truncate title={text}>
              {text}
            </Text>
          </Group>
        );
      })}
    </ScrollArea>
  );
}
