import type { Choice, QueuedAction, QueuedTransaction, Rejection } from '@koinon/client';
import type { Conflict, RowStatus } from '@koinon/core';
import { useConflicts, useOutbox, useRejections, useRow, useRows, useWaitingFiles } from '@koinon/react';
import { Alert, Badge, Button, Card, Group, Progress, Radio, Stack, Text, TextInput, Title } from '@mantine/core';
import { IconArrowsSplit2, IconHandStop } from '@tabler/icons-react';
import { useState } from 'react';
import { usePlace } from '../leaving.tsx';
import { Page } from '../parts/page.tsx';
import { usePhotos } from '../parts/photos.tsx';
import { RowMark } from '../parts/row-mark.tsx';
import { useReplica } from '../replica.ts';
import { field } from '../schema.ts';
import { offerBack, sayError } from '../undo.tsx';
import { counted, shownBytes, shownDay, shownMoment } from '../words.ts';

type TableName = keyof typeof field.tables;
interface RowInConflict {
  readonly table: TableName;
  readonly id: string;
  readonly conflicts: readonly Conflict[];
}

/** The rows that wait for a person: changed here and elsewhere, or refused by the server. */
export function WaitingPage() {
  const replica = useReplica();
  const { rows: conflicts } = useConflicts(replica);
  const { rows: refused } = useRejections(replica);
  const { rows: outbox } = useOutbox(replica);
  const rows = Object.values(
    conflicts.reduce<Record<string, RowInConflict>>((byRow, conflict) => {
      const key = `${conflict.table} ${conflict.id}`;
      const known = byRow[key]?.conflicts ?? [];
      byRow[key] = { table: conflict.table, id: conflict.id, conflicts: [...known, conflict] };
      return byRow;
    }, {}),
  );
  return (
    <Page
      title="Waiting"
      back="/device"
      under={`${counted(rows.length, 'row')} changed twice, ${refused.length} refused, ${counted(outbox.filter(({ state }) => state !== 'rejected').length, 'edit')} not sent`}
    >
      {rows.length + refused.length === 0 && <Text>Nothing waits for you.</Text>}
      {rows.map((row) => (
        <ConflictCard key={`${row.table} ${row.id}`} {...row} />
      ))}
      {refused.map((rejection) => (
        <RefusedCard key={rejection.transaction} rejection={rejection} />
      ))}
      <WaitingPhotos />
      <Unsent transactions={outbox} decided={new Set(rows.map(({ table, id }) => `${table} ${id}`))} />
    </Page>
  );
}

/** Why a photo is not with the server yet. */
const photoWords: Readonly<Record<string, string>> = {
  row: 'waits for its visit',
  queued: 'is next',
  paused: 'is held back',
  'server-unreachable': 'waits for a signal',
  'storage-full': 'waits for room on the server',
  'file-type': 'is no picture that the server takes',
};

/** The photos that have not gone to the server, with what keeps them. */
function WaitingPhotos() {
  const photos = usePhotos();
  const waiting = useWaitingFiles(photos);
  if (waiting.length === 0) return null;
  const isHeld = waiting.some(({ state }) => state === 'paused');
  const hold = () => (isHeld ? photos?.resume() : photos?.pause());
  const bytes = waiting.reduce((sum, { file, sent }) => sum + file.bytes - sent, 0);
  return (
    <Stack gap="xs" component="section" aria-label="Photos to send">
      <Group justify="space-between" wrap="nowrap">
        <Title order={2} size="h4">
          Photos to send
        </Title>
        <Button variant="default" onClick={hold}>
          {isHeld ? 'Send them' : 'Hold them back'}
        </Button>
      </Group>
      <Text c="dimmed">
        {counted(waiting.length, 'picture')}, {shownBytes(bytes)}
      </Text>
      <Stack component="ul" gap={4} m={0} p={0} aria-label="Photos to send">
        {waiting.slice(0, 50).map(({ file, sent, state }) => (
          <Group component="li" key={file.id} justify="space-between" style={{ listStyle: 'none' }}>
            <div>
              <Text>{file.name ?? 'Small picture for lists'}</Text>
              <Text size="sm" c="dimmed">
                {state === 'uploading'
                  ? `${shownBytes(sent)} of ${shownBytes(file.bytes)}`
                  : (photoWords[state] ?? 'is tried again')}
              </Text>
            </div>
            {state === 'uploading' && (
              <Progress w={80} value={(100 * sent) / Math.max(file.bytes, 1)} aria-label="Sent" />
            )}
          </Group>
        ))}
      </Stack>
      {waiting.length > 50 && <Text c="dimmed">and {counted(waiting.length - 50, 'more picture')}</Text>}
    </Stack>
  );
}

/** The rows that have not been sent, each once, and what keeps them. */
function Unsent(props: {
  readonly transactions: readonly QueuedTransaction[];
  /** Rows with a card of their own. */
  readonly decided: ReadonlySet<string>;
}) {
  const { transactions, decided } = props;
  const asked = transactions.filter(({ state }) => state !== 'rejected').flatMap(({ actions }) => actions);
  const rows = new Map<string, { readonly table: TableName; readonly id: string }>();
  for (const { state, changes } of transactions)
    if (state !== 'rejected')
      for (const { table, id } of changes)
        if (!decided.has(`${table} ${id}`)) rows.set(`${table} ${id}`, { table: table as TableName, id });
  if (rows.size + asked.length === 0) return null;
  const first = [...rows.entries()].slice(0, 50);
  return (
    <Stack gap="xs">
      <Title order={2} size="h4">
        Not sent yet
      </Title>
      <Stack component="ul" gap={4} m={0} p={0} aria-label="Not sent yet">
        {asked.slice(0, 50).map((action) => (
          <AskedAction key={action.id} action={action} />
        ))}
        {first.map(([key, row]) => (
          <UnsentRow key={key} {...row} />
        ))}
      </Stack>
      {rows.size > first.length && <Text c="dimmed">and {counted(rows.size - first.length, 'more row')}</Text>}
    </Stack>
  );
}

/** Something that the office is to do. */
function AskedAction({ action: { input } }: { readonly action: QueuedAction }) {
  const title = useMoveTitle(input);
  return (
    <Group component="li" justify="space-between" style={{ listStyle: 'none' }}>
      <div>
        <Text>{title}</Text>
        <Text size="sm" c="dimmed">
          the office is to be asked
        </Text>
      </div>
    </Group>
  );
}

/** A move in words. */
function useMoveTitle(input: Readonly<Record<string, unknown>>): string {
  const replica = useReplica();
  const { row: hive } = useRow(replica, 'hive', String(input.hive));
  const { row: site } = useRow(replica, 'site', String(input.to));
  return `Move hive ${hive?.mark ?? ''} to ${site?.name ?? ''}`;
}

function UnsentRow({ table, id }: { readonly table: TableName; readonly id: string }) {
  const replica = useReplica();
  const { rows } = useRows(replica, { from: table, where: { id } as never, join: { sync: 'status' } });
  const sync = (rows as readonly { readonly sync: RowStatus }[])[0]?.sync;
  const title = useTitle(table, id);
  const isAsked = sync?.status === 'conflicted' || sync?.status === 'rejected';
  const held = useTitle((sync?.blockedBy?.table ?? table) as TableName, sync?.blockedBy?.id ?? id);
  // It has a card of its own.
  if (isAsked) return null;
  return (
    <Group component="li" justify="space-between" style={{ listStyle: 'none' }}>
      <div>
        <Text>{title}</Text>
        <Text size="sm" c="dimmed">
          {sync === undefined
            ? 'deleted here'
            : sync.blockedBy
              ? `waits for ${held}`
              : sync.isNew
                ? 'new here'
                : `changed: ${sync.changed.join(', ')}`}
        </Text>
      </div>
      {sync && <RowMark sync={sync} />}
    </Group>
  );
}

/** The name of a row on screen. */
function useTitle(table: TableName, id: string, otherwise?: unknown): string {
  const { row } = useRow(useReplica(), table, id);
  const { name, mark, at, day } = (row ?? otherwise ?? {}) as Readonly<Record<string, string | undefined>>;
  const kind = `${table.charAt(0).toUpperCase()}${table.slice(1)}`;
  return `${kind} ${name ?? mark ?? (at ? shownMoment(at) : undefined) ?? (day ? shownDay(day) : undefined) ?? id}`;
}

const shown = (value: unknown) =>
  value === null || value === undefined
    ? 'nothing'
    : typeof value === 'boolean'
      ? value
        ? 'yes'
        : 'no'
      : String(value);

const edited = (at: string | null) => (at === null ? '' : ` (${shownMoment(at)})`);

type Pick = 'local' | 'remote' | 'other';

/** A row in conflict: before, mine and theirs by column; each is picked, or typed anew. */
function ConflictCard({ table, id, conflicts }: RowInConflict) {
  const replica = useReplica();
  const { rows: members } = useRows(replica, { from: 'member' });
  const by = (user: string | null) => {
    const name = members.find(({ id: known }) => known === user)?.name;
    return name === undefined ? '' : `, ${name}`;
  };
  const whole = conflicts.find(({ column }) => column === null);
  const title = useTitle(table, id, whole?.remote);
  const [picks, setPicks] = useState<Readonly<Record<string, Pick>>>({});
  const [typed, setTyped] = useState<Readonly<Record<string, string>>>({});
  const resolve = async (choices: Choice | Readonly<Record<string, Choice>>) => {
    try {
      await replica.resolve(table, id, choices as Choice);
      offerBack(`${title} is decided.`, () => replica.unresolve(table, id));
    } catch (error) {
      sayError(error);
    }
  };
  const choiceOf = (column: string): Choice => {
    const pick = picks[column] ?? 'local';
    if (pick !== 'other') return pick;
    const columns = field.tables[table].columns as Readonly<Record<string, { readonly type: string }>>;
    const text = typed[column] ?? '';
    return { value: ['integer', 'real'].includes(columns[column]?.type ?? '') ? Number(text) : text };
  };
  return (
    <Card withBorder component="section" aria-label={`${title} was changed twice`}>
      <Stack gap="sm">
        <Group justify="space-between">
          <Title order={2} size="h4">
            {title}
          </Title>
          <Badge color="grape.8" leftSection={<IconArrowsSplit2 size={12} aria-hidden />}>
            Changed twice
          </Badge>
        </Group>
        {whole ? (
          <>
            <Text>
              {whole.local === null
                ? 'You deleted it; meanwhile somebody changed it.'
                : 'You changed it; meanwhile somebody deleted it.'}
            </Text>
            <Group grow>
              <Button onClick={() => resolve('local')}>{whole.local === null ? 'Delete it' : 'Keep mine'}</Button>
              <Button variant="default" onClick={() => resolve('remote')}>
                {whole.local === null ? 'Keep theirs' : 'Let it go'}
              </Button>
            </Group>
          </>
        ) : (
          <>
            {conflicts.map(({ column, base, local, remote, localAt, remoteAt, remoteBy, reason }) => {
              const name = column as string;
              const pick = picks[name] ?? 'local';
              return (
                <Stack key={name} gap={4}>
                  <Radio.Group
                    label={name}
                    description={`before: ${shown(base)}${reason ? `; ${reason}` : ''}`}
                    size="md"
                    value={pick}
                    onChange={(value) => setPicks({ ...picks, [name]: value as Pick })}
                  >
                    <Stack gap={8} py={4}>
                      <Radio size="md" value="local" label={`Mine${edited(localAt)}: ${shown(local)}`} />
                      <Radio
                        size="md"
                        value="remote"
                        label={`Theirs${by(remoteBy)}${edited(remoteAt)}: ${shown(remote)}`}
                      />
                      <Radio size="md" value="other" label="Other" />
                    </Stack>
                  </Radio.Group>
                  {pick === 'other' && (
                    <TextInput
                      aria-label={`Another ${name}`}
                      value={typed[name] ?? ''}
                      onChange={(event) => setTyped({ ...typed, [name]: event.currentTarget.value })}
                    />
                  )}
                </Stack>
              );
            })}
            <Button
              onClick={() =>
                resolve(
                  Object.fromEntries(conflicts.map(({ column }) => [column as string, choiceOf(column as string)])),
                )
              }
            >
              Use this
            </Button>
          </>
        )}
      </Stack>
    </Card>
  );
}

/** Edits the server refused, with its reasons: mended in the form, or taken back. */
function RefusedCard({ rejection }: { readonly rejection: Rejection }) {
  const replica = useReplica();
  const { go } = usePlace();
  const [first] = rejection.rows;
  const [action] = rejection.actions;
  const rowTitle = useTitle((first?.table ?? 'site') as TableName, first?.id ?? '');
  const moveTitle = useMoveTitle(action?.input ?? {});
  const title = action === undefined ? rowTitle : moveTitle;
  const takeBack = async () => {
    try {
      await replica.discard(rejection.transaction, { dependent: 'take back' });
    } catch (error) {
      sayError(error);
    }
  };
  const sendAgain = async () => {
    try {
      await replica.resend(rejection.transaction);
    } catch (error) {
      sayError(error);
    }
  };
  const forms: Readonly<Record<string, string>> = {
    site: '/site/:id/edit',
    hive: '/hive/:id/edit',
    visit: '/visit/:id',
  };
  const hasLeft = rejection.problems.some(({ code }) => code === 'scope-left');
  const typed = rejection.rows
    .flatMap(({ columns }) => Object.entries(columns).map(([name, value]) => `${name}: ${String(value)}`))
    .join(', ');
  const form = action ? `/move/${action.id}` : first && forms[first.table]?.replace(':id', first.id);
  return (
    <Card withBorder component="section" aria-label={`${title} was refused`}>
      <Stack gap="sm">
        <Group justify="space-between">
          <Title order={2} size="h4">
            {title}
          </Title>
          <Badge color="red.8" leftSection={<IconHandStop size={12} aria-hidden />}>
            Refused
          </Badge>
        </Group>
        <Alert color="red" title={hasLeft ? 'No longer one of your rows' : "The office's rules say"}>
          {hasLeft
            ? 'It is looked after by somebody else now. What you typed is kept here until you drop it:'
            : rejection.problems.map(({ message }) => message).join(' ')}
          {hasLeft && <Text ff="monospace">{typed}</Text>}
        </Alert>
        <Group gap="sm">
          {hasLeft && <Button onClick={() => navigator.clipboard.writeText(typed).catch(sayError)}>Copy it</Button>}
          {!hasLeft && form !== undefined && (
            <Button onClick={() => go(form)}>{action ? 'Choose another site' : 'Edit it'}</Button>
          )}
          {!hasLeft && (
            <Button variant="default" onClick={sendAgain}>
              Send it again
            </Button>
          )}
          <Button variant="default" onClick={takeBack}>
            {hasLeft || action ? 'Drop it' : 'Take my edit back'}
          </Button>
        </Group>
      </Stack>
    </Card>
  );
}
