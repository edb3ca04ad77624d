import { cooperative } from '@koinon/demo';
import { Group, Table, Tabs, Text } from '@mantine/core';
import { useEffect, useState, useSyncExternalStore } from 'react';

type TableName = keyof typeof cooperative.tables;
const tableNames = Object.keys(cooperative.tables) as TableName[];

interface ServerRow {
  readonly id: string;
  readonly columns: Readonly<Record<string, unknown>>;
  /** When this page heard of the last change; 0 for what was there before. */
  readonly at: number;
  readonly changed: readonly string[];
}

/** The server's rows, kept up by following its feed: no replica, no polling. */
class ServerRows {
  private tables: Readonly<Record<string, ReadonlyMap<string, ServerRow>>> = {};
  private readonly listeners = new Set<() => void>();
  private isOld = true;
  private due: number | undefined;

  constructor() {
    const events = new EventSource('./office/v1/feed?follow=true');
    for (const kind of ['insert', 'update', 'delete'])
      events.addEventListener(kind, ({ data }) => this.take(JSON.parse(data)));
    // The first result comes at once: only what is later is news.
    setTimeout(() => {
      this.isOld = false;
    }, 1_500);
  }

  readonly snapshot = () => this.tables;
  readonly subscribe = (changed: () => void): (() => void) => {
    this.listeners.add(changed);
    return () => this.listeners.delete(changed);
  };

  private take(entry: { kind: string; table: string; id: string; columns: Record<string, unknown> }): void {
    const rows = new Map(this.tables[entry.table]);
    const before = rows.get(entry.id);
    const at = this.isOld ? 0 : Date.now();
    if (entry.kind === 'delete') rows.delete(entry.id);
    else {
      const columns = entry.kind === 'insert' ? entry.columns : { ...before?.columns, ...entry.columns };
      rows.set(entry.id, { id: entry.id, columns, at, changed: Object.keys(entry.columns) });
    }
    this.tables = { ...this.tables, [entry.table]: rows };
    this.due ??= window.setTimeout(() => {
      this.due = undefined;
      for (const each of [...this.listeners]) each();
    }, 20);
  }
}

const rows = new ServerRows();
const shownRows = 7;
const width: Readonly<Record<TableName, readonly string[]>> = {
  member: ['name', 'village'],
  site: ['name', 'forage', 'open'],
  hive: ['mark', 'site', 'strength', 'queen', 'notes'],
  visit: ['hive', 'at', 'mites', 'weight', 'notes'],
  photo: ['visit', 'at', 'picture'],
  harvest: ['hive', 'day', 'frames'],
  tool: ['member', 'name', 'count'],
  movement: ['hive', 'to', 'number', 'at'],
  plant: ['name', 'blooms', 'nectar', 'pollen'],
};

/** The server's tables, last changed first. */
export function ServerTable() {
  const tables = useSyncExternalStore(rows.subscribe, rows.snapshot);
  const [name, setName] = useState<TableName>('hive');
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 1_000);
    return () => clearInterval(timer);
  }, []);
  const all = [...(tables[name]?.values() ?? [])];
  const shown = all.sort((a, b) => b.at - a.at || (a.id < b.id ? -1 : 1)).slice(0, shownRows);
  return (
    <section aria-label="The server’s tables">
      <Tabs value={name} onChange={(value) => setName(value as TableName)} variant="outline">
        <Tabs.List>
          {tableNames.map((each) => (
            <Tabs.Tab key={each} value={each} px={5} py={4} fz="xs">
              {each}{' '}
              <Text span size="xs" c="dimmed">
                {tables[each]?.size ?? 0}
              </Text>
            </Tabs.Tab>
          ))}
        </Tabs.List>
      </Tabs>
      <Table layout="fixed" verticalSpacing={3} horizontalSpacing={6} fz="xs">
        <Table.Thead>
          <Table.Tr>
            <Table.Th w={92}>id</Table.Th>
            {width[name].map((column) => (
              <Table.Th key={column}>{column}</Table.Th>
            ))}
            <Table.Th w={84}>changed</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {shown.map((row) => {
            const isFresh = row.at > 0 && now - row.at < 6_000;
            return (
              <Table.Tr key={row.id} data-row={row.id}>
                <Table.Td style={cut}>{row.id}</Table.Td>
                {width[name].map((column) => (
                  <Table.Td
                    key={column}
                    style={cut}
                    {...(isFresh && row.changed.includes(column) ? { bg: 'yellow.2', fw: 700 } : {})}
                  >
                    {shownValue(row.columns[column])}
                  </Table.Td>
                ))}
                <Table.Td>
                  {row.at > 0 && (
                    <Text size="xs" fw={isFresh ? 700 : 400} style={{ whiteSpace: 'nowrap' }}>
                      {ago(now - row.at)}
                    </Text>
                  )}
                </Table.Td>
              </Table.Tr>
            );
          })}
        </Table.Tbody>
      </Table>
      <Group justify="flex-end">
        <Text size="xs" c="dimmed">
          {all.length > shown.length ? `and ${all.length - shown.length} more` : ''}
        </Text>
      </Group>
    </section>
  );
}

const cut = { overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' } as const;

function ago(milliseconds: number): string {
  const seconds = Math.max(0, Math.round(milliseconds / 1000));
  return seconds < 60
    ? `${seconds} s`
    : seconds < 3600
      ? `${Math.floor(seconds / 60)} min`
      : `${Math.floor(seconds / 3600)} h`;
}

function shownValue(value: unknown): string {
  if (value === null || value === undefined) return '–';
  if (typeof value === 'string' && /^\d{4}-\d\d-\d\dT/.test(value)) return value.slice(0, 16).replace('T', ' ');
  return typeof value === 'object' ? JSON.stringify(value) : String(value);
}
