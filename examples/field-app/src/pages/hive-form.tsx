import { useDraft, useRows } from '@koinon/react';
import { Select, Slider, Text, Textarea, TextInput } from '@mantine/core';
import { usePlace } from '../leaving.tsx';
import { DraftForm, problemOf } from '../parts/form.tsx';
import { Page } from '../parts/page.tsx';
import { useReplica } from '../replica.ts';
import { offerUndo } from '../undo.tsx';
import { choices, queens } from '../words.ts';
import { Gone } from './site.tsx';

const fields = ['mark', 'site', 'queen', 'strength', 'notes'];

/** Adds a hive to a site, or edits one. */
export function HiveFormPage({ id, site }: { readonly id: string | undefined; readonly site: string | undefined }) {
  const replica = useReplica();
  const { go } = usePlace();
  const form = useDraft(replica, 'hive', id, {
    queen: 'unmarked',
    strength: 5,
    ...(site === undefined ? {} : { site }),
  });
  const { rows: sites } = useRows(replica, { from: 'site', order: 'name' });
  const { row, set } = form;
  const back = id === undefined ? `/site/${site}` : `/hive/${id}`;
  if (form.ready && !form.exists) return <Gone />;
  return (
    <Page title={id === undefined ? 'New hive' : `Edit hive ${row.mark ?? ''}`} back={back}>
      <DraftForm
        form={form}
        fields={fields}
        onSaved={() => {
          go(back);
          offerUndo(replica, 'The hive is saved.');
        }}
      >
        <TextInput
          label="Mark"
          required
          value={row.mark ?? ''}
          error={problemOf(form, 'mark')}
          onChange={(event) => set({ mark: event.currentTarget.value.toUpperCase() })}
        />
        {id === undefined && (
          <Select
            label="Site"
            searchable
            data={sites.map(({ id: value, name }) => ({ value, label: name }))}
            value={row.site ?? null}
            error={problemOf(form, 'site')}
            onChange={(chosen) => chosen !== null && set({ site: chosen })}
          />
        )}
        <Select
          label="Queen"
          data={choices(queens)}
          value={row.queen ?? null}
          error={problemOf(form, 'queen')}
          onChange={(queen) => set({ queen: queen as keyof typeof queens })}
        />
        <div>
          <Text size="md" fw={500} id="strength">
            Strength {row.strength ?? 0} of 10
          </Text>
          <Slider
            aria-labelledby="strength"
            thumbLabel="Strength"
            size="lg"
            thumbSize={28}
            mt="xs"
            min={0}
            max={10}
            value={row.strength ?? 0}
            onChange={(strength) => set({ strength })}
          />
        </div>
        <Textarea
          label="Notes"
          autosize
          minRows={2}
          value={row.notes ?? ''}
          error={problemOf(form, 'notes')}
          onChange={(event) => set({ notes: event.currentTarget.value || null })}
        />
      </DraftForm>
    </Page>
  );
}
