import { useSyncState } from '@koinon/react';
import { Alert, Button, Checkbox, Group, Modal, Radio, Select, Stack, Text, Title } from '@mantine/core';
import { showNotification } from '@mantine/notifications';
import { useEffect, useState } from 'react';
import { canSignIn, goesAlong, type Member, membersToChoose, openBookOf, signedInMember } from '../account.ts';
import { photosOf, unsentPhotos } from '../photos.ts';
import { useReplica } from '../replica.ts';
import { counted } from '../words.ts';

/** The user of the app on this device, and whether it syncs. */
export function Account() {
  const replica = useReplica();
  const sync = useSyncState(replica);
  const [members, setMembers] = useState<readonly Member[]>([]);
  const [problem, setProblem] = useState<string>();
  const [isLeaving, setIsLeaving] = useState(false);
  const member = signedInMember();
  useEffect(() => {
    if (canSignIn()) membersToChoose().then(setMembers, (error: Error) => setProblem(error.message));
  }, []);
  if (sync === undefined || (!canSignIn() && sync.phase === 'stopped')) return null;
  const isOff = sync.phase === 'unlinked';
  return (
    <Stack gap="xs" component="section" aria-label="Account">
      <Title order={2} size="h4">
        Account
      </Title>
      {canSignIn() && (
        <Group align="flex-end">
          <Select
            flex={1}
            miw={180}
            label={member === null ? 'Sign in as' : 'Signed in as'}
            placeholder="Choose a member"
            data={members.map(({ id, name }) => ({ value: id, label: name }))}
            value={member}
            error={problem}
            description={
              member !== null
                ? 'Each member has a separate book on this device.'
                : goesAlong()
                  ? 'What is in this book goes along.'
                  : 'Opens that member’s book; this one stays as it is.'
            }
            onChange={(chosen) => chosen !== null && openBookOf(chosen)}
          />
          {member !== null && (
            <Button variant="default" onClick={() => openBookOf(null)}>
              Sign out
            </Button>
          )}
        </Group>
      )}
      {sync.phase !== 'stopped' && (
        <Group>
          {isOff ? (
            <Button onClick={() => replica.link()}>Turn sync on again</Button>
          ) : (
            <Button variant="default" onClick={() => setIsLeaving(true)}>
              Turn sync off…
            </Button>
          )}
          {isOff && <Text size="sm">Nothing is sent or fetched. What you enter stays on this device.</Text>}
        </Group>
      )}
      <TurnOff opened={isLeaving} onClose={() => setIsLeaving(false)} />
    </Stack>
  );
}

/** Asks what becomes of the rows here and there. */
function TurnOff({ opened, onClose }: { readonly opened: boolean; readonly onClose: () => void }) {
  const replica = useReplica();
  const sync = useSyncState(replica);
  const [rows, setRows] = useState<'keep' | 'erase'>('keep');
  const [deletes, setDeletes] = useState(false);
  const [drops, setDrops] = useState(false);
  const [isBusy, setIsBusy] = useState(false);
  const [problem, setProblem] = useState<string>();
  const [photos, setPhotos] = useState(0);
  useEffect(() => {
    if (opened) unsentPhotos(replica).then(setPhotos, (error: Error) => setProblem(error.message));
  }, [opened, replica]);
  if (sync === undefined) return null;
  const unsent = sync.pending + sync.rejected + sync.conflicted;
  const needsWord = rows === 'erase' && unsent + photos > 0;
  const lost = [unsent > 0 && counted(unsent, 'unsent edit'), photos > 0 && counted(photos, 'unsent photo')];
  const turnOff = async () => {
    setIsBusy(true);
    setProblem(undefined);
    try {
      const { erased, deleted, left } = await replica.unlink({
        rows,
        server: deletes ? 'delete' : 'keep',
        ...(needsWord && drops && { unsent: 'drop' as const }),
      });
      if (rows === 'erase') await (await photosOf(replica)).erase();
      const done = [
        'Sync is off.',
        erased > 0 && `${counted(erased, 'row')} left this device.`,
        deleted > 0 && `${counted(deleted, 'row')} deleted on the server.`,
        left.length > 0 && `${counted(left.length, 'row')} stay there: ${left[0]?.problems[0]?.message ?? ''}`,
      ];
      showNotification({ message: done.filter(Boolean).join(' '), autoClose: 10_000 });
      onClose();
    } catch (error) {
      setProblem((error as Error).message);
    }
    setIsBusy(false);
  };
  return (
    <Modal opened={opened} onClose={onClose} title="Turn sync off" centered>
      <Stack>
        {unsent > 0 && <Text>{counted(unsent, 'edit')} of yours are not with the server yet.</Text>}
        {photos > 0 && <Text>{counted(photos, 'photo')} of yours are not with the server yet.</Text>}
        <Radio.Group label="What is on this device" value={rows} onChange={(value) => setRows(value as typeof rows)}>
          <Stack gap="xs" mt="xs">
            <Radio value="keep" label="stays, and can still be edited" />
            <Radio value="erase" label="is erased from it" />
          </Stack>
        </Radio.Group>
        {needsWord && (
          <Checkbox
            label={`The ${lost.filter(Boolean).join(' and ')} may be lost`}
            checked={drops}
            onChange={(event) => setDrops(event.currentTarget.checked)}
          />
        )}
        <Checkbox
          label="Delete these rows on the server as well"
          checked={deletes}
          onChange={(event) => setDeletes(event.currentTarget.checked)}
        />
        {deletes && (
          <Alert color="red" title="Other devices lose them too">
            Every row on this device is deleted for everybody who shares it, as far as you may delete it.
          </Alert>
        )}
        {problem && <Alert color="red">{problem}</Alert>}
        <Group>
          <Button {...(deletes && { color: 'red' })} loading={isBusy} disabled={needsWord && !drops} onClick={turnOff}>
            Turn sync off
          </Button>
          <Button variant="default" onClick={onClose}>
            Go on as before
          </Button>
        </Group>
      </Stack>
    </Modal>
  );
}
