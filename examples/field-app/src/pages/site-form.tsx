import { useDraft, useRows } from '@koinon/react';
import { Group, NumberInput, Select, Switch, TextInput } from '@mantine/core';
import { usePlace } from '../leaving.tsx';
import { DraftForm, problemOf } from '../parts/form.tsx';
import { Page } from '../parts/page.tsx';
import { useReplica } from '../replica.ts';
import { offerUndo } from '../undo.tsx';
import { choices, forages } from '../words.ts';
import { Gone } from './site.tsx';

const fields = ['name', 'forage', 'keeper', 'latitude', 'longitude', 'open'];

/** Adds or edits a site. */
export function SiteFormPage({ id }: { readonly id: string | undefined }) {
  const replica = useReplica();
  const { go } = usePlace();
  const form = useDraft(replica, 'site', id, { forage: 'heather', open: true });
  const { rows: members } = useRows(replica, { from: 'member', order: 'name' });
  const { row, set } = form;
  const back = id === undefined ? '/' : `/site/${id}`;
  if (form.ready && !form.exists) return <Gone />;
  return (
    <Page title={id === undefined ? 'New site' : `Edit ${row.name ?? ''}`} back={back}>
      <DraftForm
        form={form}
        fields={fields}
        onSaved={() => {
          go(back);
          offerUndo(replica, 'The site is saved.');
        }}
      >
        <TextInput
          label="Name"
          required
          value={row.name ?? ''}
          error={problemOf(form, 'name')}
          onChange={(event) => set({ name: event.currentTarget.value })}
        />
        <Select
          label="Forage"
          data={choices(forages)}
          value={row.forage ?? null}
          error={problemOf(form, 'forage')}
          onChange={(forage) => set({ forage: forage as keyof typeof forages })}
        />
        <Select
          label="Keeper"
          required
          searchable
          data={members.map(({ id: value, name }) => ({ value, label: name }))}
          value={row.keeper ?? null}
          error={problemOf(form, 'keeper')}
          onChange={(keeper) => keeper !== null && set({ keeper })}
        />
        <Group grow align="flex-start">
          <NumberInput
            label="Latitude"
            required
            decimalScale={4}
            value={row.latitude ?? ''}
            error={problemOf(form, 'latitude')}
            onChange={(latitude) => typeof latitude === 'number' && set({ latitude })}
          />
          <NumberInput
            label="Longitude"
            required
            decimalScale={4}
            value={row.longitude ?? ''}
            error={problemOf(form, 'longitude')}
            onChange={(longitude) => typeof longitude === 'number' && set({ longitude })}
          />
        </Group>
        <Switch
          size="md"
          label="Open this season"
          checked={row.open ?? false}
          onChange={(event) => set({ open: event.currentTarget.checked })}
        />
      </DraftForm>
    </Page>
  );
}
