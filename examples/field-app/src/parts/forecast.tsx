import { useRows } from '@koinon/react';
import { Group, Text } from '@mantine/core';
import { IconTemperature, IconWind } from '@tabler/icons-react';
import { useSyncExternalStore } from 'react';
import { useReplica } from '../replica.ts';
import { useWeather } from '../weather.ts';
import { shownMoment } from '../words.ts';

/** The weather at a site, as it was told last. */
export function Forecast({ site }: { readonly site: string }) {
  const replica = useReplica();
  const weather = useWeather(replica);
  const state = useSyncExternalStore(weather.subscribe, weather.snapshot);
  const [now] = useRows(replica, { from: 'forecast', where: { site } }).rows;
  if (now === undefined) return null;
  return (
    <Group gap="xs" role="group" aria-label="The weather at this site">
      <IconTemperature size={18} aria-hidden />
      <Text size="sm">{now.degrees} °C</Text>
      <IconWind size={18} aria-hidden />
      <Text size="sm">{now.wind} m/s</Text>
      {state !== undefined && state.checkedAt !== null && (
        <Text size="sm" c={state.isStale ? 'red' : 'dimmed'}>
          {state.isStale ? 'Old: ' : ''}as of {shownMoment(state.checkedAt)}
        </Text>
      )}
    </Group>
  );
}
