import type { Replica } from '@koinon/client';
import { type DraftedForm, useDraft, useRow, useRows } from '@koinon/react';
import { createElement, StrictMode, startTransition, useState } from 'react';
import { createRoot } from 'react-dom/client';
import type { orchard } from './orchard.ts';

type Orchard = Replica<typeof orchard>;

/** The state and the actions of the components of the test. */
export interface Mounted {
  /** Renders in which two components showed different results of one query. */
  torn: number;
  /** The kinds of the trees, as last shown. */
  shown: string[];
  one: string | undefined;
  form: DraftedForm<{ readonly kind: string; readonly age: number | null }>;
  /** A form for a new tree, and one for a new photo. */
  newTree: DraftedForm<{ readonly kind: string; readonly picked: number }>;
  newPhoto: DraftedForm<{ readonly image: Uint8Array }>;
  /** The ids of the photos that look like the wanted one. */
  photos: string[];
  /** Shows only trees of a kind; null shows none. */
  filter(kind: string | null | undefined): void;
  unmount(): void;
  /** Live queries that are followed just now. */
  followed: number;
}

/** Mounts components that show trees, under StrictMode and with concurrent updates. */
export function mountTrees(replica: Orchard): Mounted {
  const mounted = { torn: 0, shown: [], one: undefined, followed: 0 } as unknown as Mounted;
  const counted = Object.create(replica) as Orchard;
  counted.live = ((query: Parameters<Orchard['live']>[0]) => {
    const live = replica.live(query);
    const subscribe = live.subscribe.bind(live);
    live.subscribe = (...given) => {
      mounted.followed++;
      const stop = subscribe(...given);
      return () => {
        mounted.followed--;
        stop();
      };
    };
    return live;
  }) as unknown as Orchard['live'];
  const seen: (readonly unknown[])[] = [];

  function Trees({ kind, place }: { readonly kind: string | null | undefined; readonly place: number }) {
    const query = { from: 'tree', ...(kind ? { where: { kind } } : {}), order: 'kind' } as const;
    const { rows } = useRows(counted, kind === null ? undefined : query);
    seen[place] = rows;
    if (place === 1) {
      if (seen[0] !== seen[1]) mounted.torn++;
      mounted.shown = rows.map((row) => row.kind);
    }
    return null;
  }
  function One() {
    const { row } = useRow(counted, 'tree', 'plum');
    mounted.one = row?.kind;
    mounted.form = useDraft(counted, 'tree', 'plum');
    return null;
  }
  function Photos() {
    // Made anew with each render, as components do.
    const image = new Uint8Array([1, 2, 3]);
    mounted.photos = useRows(replica, { from: 'photo', where: { image } }).rows.map(({ id }) => id);
    mounted.newTree = useDraft(replica, 'tree', undefined);
    mounted.newPhoto = useDraft(replica, 'photo', undefined, { image });
    return null;
  }
  function All() {
    const [kind, setKind] = useState<string | null | undefined>(undefined);
    mounted.filter = (wanted) => startTransition(() => setKind(wanted));
    return createElement('div', null, [
      createElement(Trees, { key: 0, kind, place: 0 }),
      createElement(Trees, { key: 1, kind, place: 1 }),
      createElement(One, { key: 2 }),
      createElement(Photos, { key: 3 }),
    ]);
  }
  const root = createRoot(document.body.appendChild(document.createElement('div')));
  root.render(createElement(StrictMode, null, createElement(All)));
  mounted.unmount = () => root.unmount();
  return mounted;
}
