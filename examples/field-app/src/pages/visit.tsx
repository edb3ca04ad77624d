import { useDraft, useRow, useRows } from '@koinon/react';
import {
  ActionIcon,
  Group,
  NumberInput,
  SegmentedControl,
  Select,
  Switch,
  Text,
  Textarea,
  TextInput,
} from '@mantine/core';
import { IconTrash } from '@tabler/icons-react';
import { useState } from 'react';
import { usePlace } from '../leaving.tsx';
import { DraftForm, problemOf, useRefusals } from '../parts/form.tsx';
import { Page } from '../parts/page.tsx';
import { NewPhotos, VisitPhotos } from '../parts/photos.tsx';
import { attachPhotos, type TakenPhoto } from '../photos.ts';
import { useReplica } from '../replica.ts';
import { offerUndo, sayError } from '../undo.tsx';
import { broods, choices } from '../words.ts';
import { Gone } from './site.tsx';

const fields = ['member', 'at', 'queenSeen', 'brood', 'mites', 'weight', 'notes'];

/** A time as the browser's field has it: local, to the minute. */
const local = (timestamp: string | undefined) => {
  if (timestamp === undefined) return '';
  const time = new Date(timestamp);
  return new Date(time.getTime() - time.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
};

/** Adds or edits a visit to a hive. */
export function VisitPage({ id, hive }: { readonly id: string | undefined; readonly hive: string | undefined }) {
  const replica = useReplica();
  const { go } = usePlace();
  const [now] = useState(() => new Date().toISOString());
  const draft = useDraft(replica, 'visit', id, {
    at: now,
    queenSeen: true,
    brood: 'even',
    mites: 0,
    ...(hive === undefined ? {} : { hive }),
  });
  const form = useRefusals(draft, 'visit', id);
  const { row, set } = form;
  const { row: visited } = useRow(replica, 'hive', row.hive);
  const { rows: members } = useRows(replica, { from: 'member', order: 'name' });
  const [taken, setTaken] = useState<readonly TakenPhoto[]>([]);
  const back = row.hive === undefined ? '/' : `/hive/${row.hive}`;
  if (form.ready && !form.exists) return <Gone />;
  const remove = async () => {
    try {
      form.drop();
      await replica.transaction(async (transaction) => {
        await transaction.deleteWhere('photo', { visit: id as string });
        await transaction.delete('visit', id as string);
      });
      go(back);
      offerUndo(replica, 'The visit was deleted.');
    } catch (error) {
      sayError(error);
    }
  };
  return (
    <Page
      title={`${id === undefined ? 'New visit' : 'Visit'} to hive ${visited?.mark ?? ''}`}
      back={back}
      actions={
        id !== undefined && (
          <ActionIcon aria-label="Delete the visit" color="red" onClick={remove}>
            <IconTrash />
          </ActionIcon>
        )
      }
    >
      <DraftForm
        form={form}
        fields={fields}
        onSaved={async (saved) => {
          go(back);
          offerUndo(replica, 'The visit is saved.');
          if (taken.length > 0) await attachPhotos(replica, saved.id, taken).catch(sayError);
        }}
      >
        <Select
          label="Who"
          required
          data={members.map(({ id: value, name }) => ({ value, label: name }))}
          value={row.member ?? null}
          error={problemOf(form, 'member')}
          onChange={(member) => member !== null && set({ member })}
        />
        <TextInput
          label="When"
          type="datetime-local"
          value={local(row.at)}
          error={problemOf(form, 'at')}
          onChange={(event) => {
            const time = new Date(event.currentTarget.value);
            if (!Number.isNaN(time.getTime())) set({ at: time.toISOString() });
          }}
        />
        <Switch
          size="md"
          label="Queen seen"
          checked={row.queenSeen ?? false}
          onChange={(event) => set({ queenSeen: event.currentTarget.checked })}
        />
        <div>
          <Text size="md" fw={500} mb={4}>
            Brood
          </Text>
          <SegmentedControl
            aria-label="Brood"
            fullWidth
            data={choices(broods)}
            value={row.brood ?? 'even'}
            onChange={(brood) => set({ brood: brood as keyof typeof broods })}
          />
        </div>
        <Group grow align="flex-start">
          <NumberInput
            label="Mites"
            min={0}
            allowDecimal={false}
            value={row.mites ?? ''}
            error={problemOf(form, 'mites')}
            onChange={(mites) => typeof mites === 'number' && set({ mites })}
          />
          <NumberInput
            label="Weight, kg"
            decimalScale={1}
            value={row.weight ?? ''}
            error={problemOf(form, 'weight')}
            onChange={(weight) => set({ weight: typeof weight === 'number' ? weight : null })}
          />
        </Group>
        <Textarea
          label="Notes"
          autosize
          minRows={3}
          value={row.notes ?? ''}
          error={problemOf(form, 'notes')}
          onChange={(event) => set({ notes: event.currentTarget.value || null })}
        />
      </DraftForm>
      {id === undefined ? <NewPhotos taken={taken} onChange={setTaken} /> : <VisitPhotos visit={id} />}
    </Page>
  );
}
