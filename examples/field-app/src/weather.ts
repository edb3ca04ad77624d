import { openSource, type SourceState } from '@koinon/client/sources';
import type { NewRow } from '@koinon/core';
import type { FieldReplica } from './replica.ts';
import type { field } from './schema.ts';

/** The weather is asked for this often, in milliseconds; after twice that time it is old. */
const interval = 600_000;

/** The weather of the sites, and how old it is. */
export interface Weather {
  /** The state of the source; undefined before it is open. The same object until it changes. */
  readonly snapshot: () => SourceState | undefined;
  readonly subscribe: (changed: () => void) => () => void;
}

const opened = new WeakMap<FieldReplica, Weather>();

/** The weather: asked for from the first time that a page shows it. */
export function useWeather(replica: FieldReplica): Weather {
  const known = opened.get(replica) ?? open(replica);
  opened.set(replica, known);
  return known;
}

function open(replica: FieldReplica): Weather {
  let state: SourceState | undefined;
  const listeners = new Set<() => void>();
  void openSource(replica, 'forecast', {
    ...{ interval, maxAge: 2 * interval },
    async refresh({ etag, signal }) {
      const headers: HeadersInit = etag === undefined ? {} : { 'if-none-match': etag };
      const answer = await fetch('./forecast', { signal, headers, cache: 'no-store' });
      if (answer.status === 304) return 'unchanged';
      if (!answer.ok || !answer.headers.get('content-type')?.includes('json'))
        throw new Error(`The weather service answered ${answer.status}.`);
      const all = (await answer.json()) as NewRow<typeof field, 'forecast'>[];
      const sites = new Set((await replica.rows({ from: 'site', columns: [] })).map(({ id }) => id));
      return { rows: all.filter(({ site }) => sites.has(site)), etag: answer.headers.get('etag') ?? undefined };
    },
  }).then((source) => {
    const changed = () => {
      state = source.state;
      for (const each of [...listeners]) each();
    };
    source.subscribe(changed);
    changed();
  });
  return {
    snapshot: () => state,
    subscribe: (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
  };
}
