import type { Replica } from '@koinon/client';
import { sql } from '@koinon/core';
import type { cooperative } from '@koinon/demo';
import { useLive, useSyncState } from '@koinon/react';
import { LineChart } from '@mantine/charts';
import { Badge, Box, Card, Group, Loader, SimpleGrid, Stack, Table, Text, Title } from '@mantine/core';
import { IconAlertTriangle, IconBolt, IconCloudOff } from '@tabler/icons-react';
import { type ReactNode, useEffect, useMemo, useState } from 'react';

type BoardReplica = Replica<typeof cooperative>;

/** Mites on the board after a day that call for action. */
const manyMites = 8;

interface Week {
  readonly week: string;
  readonly mites: number;
  readonly weight: number;
}

interface Concern {
  readonly id: string;
  readonly name: string;
  readonly keeper: string;
  readonly mites: number | null;
  readonly queenless: number;
}

/** The office's board: what its members' devices bring in, as it comes in. */
export function Board({ replica }: { readonly replica: BoardReplica }) {
  const sync = useSyncState(replica);
  const today = useToday();
  const queries = useMemo(() => queriesOf(replica, today), [replica, today]);
  const counts = useLive(queries.counts);
  const weeks = useLive(queries.weeks);
  const concerns = useLive(queries.concerns);
  const latest = useLive(queries.latest);
  const [count] = counts.rows;
  const isLive = sync?.phase === 'live';
  if (sync !== undefined && !sync.isComplete)
    return (
      <Group p="xl">
        <Loader size="sm" />
        <Text>
          The first download: {sync.progress?.down.done ?? 0} of {sync.progress?.down.of ?? '?'} rows
        </Text>
      </Group>
    );
  return (
    <Box p="md" maw={1280} mx="auto">
      <Group justify="space-between" mb="sm">
        <Title order={1} size="h3">
          The cooperative today
        </Title>
        <Badge
          size="lg"
          color={isLive ? 'teal.8' : 'gray.7'}
          leftSection={isLive ? <IconBolt size={14} aria-hidden /> : <IconCloudOff size={14} aria-hidden />}
        >
          {isLive ? 'Live' : (sync?.phase ?? 'opening')}
        </Badge>
      </Group>
      <SimpleGrid cols={4} mb="sm">
        <Figure name="Visits today" value={count?.today} />
        <Figure name="Visits in 30 days" value={count?.month} />
        <Figure name="Hives" value={count?.hives} />
        <Figure name="Sites that need attention" value={concerns.ready ? concerns.rows.length : undefined} />
      </SimpleGrid>
      <SimpleGrid cols={2} mb="sm">
        <Plot title="Mites per visit, weekly mean" name="mites" color="red.8" weeks={weeks.rows} decimals={1} />
        <Plot title="Hive weight, weekly mean, kg" name="weight" color="yellow.9" weeks={weeks.rows} decimals={1} />
      </SimpleGrid>
      <SimpleGrid cols={2}>
        <Panel title="Sites that need attention">
          <Table fz="sm" verticalSpacing={4}>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>site</Table.Th>
                <Table.Th>keeper</Table.Th>
                <Table.Th ta="right">worst last count</Table.Th>
                <Table.Th ta="right">without queen</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {concerns.rows.slice(0, 7).map(({ id, name, keeper, mites, queenless }) => (
                <Table.Tr key={id}>
                  <Table.Td>{name}</Table.Td>
                  <Table.Td>{keeper}</Table.Td>
                  <Table.Td ta="right">
                    {(mites ?? 0) >= manyMites && <IconAlertTriangle size={12} aria-label="many" />} {mites ?? '–'}
                  </Table.Td>
                  <Table.Td ta="right">{queenless}</Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
          {concerns.rows.length > 7 && (
            <Text size="xs" c="dimmed">
              and {concerns.rows.length - 7} more
            </Text>
          )}
        </Panel>
        <Panel title="Last visits">
          <Table fz="sm" verticalSpacing={4}>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>when</Table.Th>
                <Table.Th>site, hive</Table.Th>
                <Table.Th>who</Table.Th>
                <Table.Th ta="right">mites</Table.Th>
                <Table.Th ta="right">kg</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {latest.rows.map(({ id, at, hive, site, member, mites, weight }) => (
                <Table.Tr key={id} data-visit={id}>
                  <Table.Td>{at.slice(0, 16).replace('T', ' ')}</Table.Td>
                  <Table.Td>
                    {site}, {hive}
                  </Table.Td>
                  <Table.Td>{member}</Table.Td>
                  <Table.Td ta="right">{mites}</Table.Td>
                  <Table.Td ta="right">{weight ?? '–'}</Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </Panel>
      </SimpleGrid>
    </Box>
  );
}

/** When this day began, RFC 3339. A board hangs on the wall for weeks: the next day begins without anybody loading the page. */
function useToday(): string {
  const [today, setToday] = useState(startOfToday);
  useEffect(() => {
    // A minute at a time: a machine that slept through midnight has it as soon as it wakes.
    const timer = setInterval(() => setToday(startOfToday()), 60_000);
    return () => clearInterval(timer);
  }, []);
  return today;
}

function startOfToday(): string {
  const day = new Date();
  day.setHours(0, 0, 0, 0);
  return day.toISOString();
}

/** The queries that the board follows: each is run again when a table it reads has changed, and by nothing else. */
function queriesOf(replica: BoardReplica, today: string) {
  const month = new Date(Date.parse(today) - 30 * 86_400_000).toISOString();
  return {
    counts: replica.liveSelect<{ readonly today: number; readonly month: number; readonly hives: number }>(
      sql`SELECT (SELECT count(*) FROM visit WHERE at >= ${today}) AS today,
        (SELECT count(*) FROM visit WHERE at >= ${month}) AS month, (SELECT count(*) FROM hive) AS hives`,
    ),
    weeks: replica.liveSelect<Week>(
      sql`SELECT date(at, 'weekday 0', '-6 days') AS week, avg(mites) AS mites, avg(weight) AS weight
        FROM visit GROUP BY 1 ORDER BY 1`,
    ),
    concerns: replica.liveSelect<Concern>(
      sql`WITH last AS (SELECT hive, mites, max(at) FROM visit GROUP BY hive)
        SELECT s.id, s.name, m.name AS keeper, max(l.mites) AS mites, count(*) FILTER (WHERE h.queen = 'missing') AS queenless
        FROM site s JOIN member m ON m.id = s.keeper JOIN hive h ON h.site = s.id LEFT JOIN last l ON l.hive = h.id
        GROUP BY s.id HAVING max(l.mites) >= ${manyMites} OR queenless > 1
        ORDER BY queenless + coalesce(max(l.mites), 0) DESC`,
    ),
    latest: replica.liveSelect<{
      readonly id: string;
      readonly at: string;
      readonly hive: string;
      readonly site: string;
      readonly member: string;
      readonly mites: number;
      readonly weight: number | null;
    }>(
      sql`SELECT v.id, v.at, h.mark AS hive, s.name AS site, m.name AS member, v.mites, v.weight FROM visit v
        JOIN hive h ON h.id = v.hive JOIN site s ON s.id = h.site JOIN member m ON m.id = v.member
        ORDER BY v.at DESC, v.id LIMIT 7`,
    ),
  };
}

function Figure({ name, value }: { readonly name: string; readonly value: number | undefined }) {
  return (
    <Card withBorder padding="sm">
      <Text size="sm" c="dimmed">
        {name}
      </Text>
      <Text fz={28} fw={700} data-testid={name} aria-live="polite">
        {value ?? '–'}
      </Text>
    </Card>
  );
}

function Panel({ title, children }: { readonly title: string; readonly children: ReactNode }) {
  return (
    <Card withBorder padding="sm">
      <Stack gap={4}>
        <Title order={2} size="h6">
          {title}
        </Title>
        {children}
      </Stack>
    </Card>
  );
}

function Plot(props: {
  readonly title: string;
  readonly name: 'mites' | 'weight';
  readonly color: string;
  readonly weeks: readonly Week[];
  readonly decimals: number;
}) {
  const { title, name, color, weeks, decimals } = props;
  return (
    <Panel title={title}>
      <LineChart
        h={190}
        data={weeks.map((week) => ({ ...week }))}
        dataKey="week"
        series={[{ name, color }]}
        withDots={false}
        yAxisProps={{ domain: ['auto', 'auto'], width: 36 }}
        valueFormatter={(value) => value.toFixed(decimals)}
      />
    </Panel>
  );
}
