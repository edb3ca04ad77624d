import type { LiveQuery, Result } from '@koinon/client';
import { useCallback, useSyncExternalStore } from 'react';

/** The state of a live query, as a hook shows it. */
export interface Shown<R> {
  readonly rows: readonly R[];
  /** False until the first result is there: `rows` is empty then because it is not known yet. */
  readonly ready: boolean;
  /** Why there is no result, or an old one: a query that cannot be run, a database that fails, a server that cannot be reached. */
  readonly error: Error | undefined;
}

const nothing: Shown<never> = { rows: [], ready: false, error: undefined };

/** One live query on screen. Every component that asks the same shows the same result, in the same render. */
export class Screen<R> {
  private readonly live: LiveQuery<R>;
  private readonly onUse: (isUsed: boolean) => void;
  private readonly subscribers = new Set<() => void>();
  private stop: (() => void) | undefined;
  private current: Shown<R> = nothing;

  /** @param onUse called when the first component shows the query, and when the last one no longer does. */
  constructor(live: LiveQuery<R>, onUse: (isUsed: boolean) => void = () => undefined) {
    this.live = live;
    this.onUse = onUse;
  }

  readonly snapshot = (): Shown<R> => this.current;

  readonly subscribe = (changed: () => void): (() => void) => {
    this.subscribers.add(changed);
    if (this.subscribers.size === 1) this.onUse(true);
    this.stop ??= this.live.subscribe(
      ({ rows, ready, error }: Result<R>) => {
        if (ready || error) this.show({ rows, ready, error });
      },
      (error) => this.show({ ...nothing, error: error as Error }),
    );
    return () => {
      this.subscribers.delete(changed);
      if (this.subscribers.size > 0) return;
      this.stop?.();
      this.stop = undefined;
      this.current = nothing;
      this.onUse(false);
    };
  };

  private show(shown: Shown<R>): void {
    this.current = shown;
    for (const changed of [...this.subscribers]) changed();
  }
}

/** Shows a screen, or nothing. */
export function useScreen<R>(screen: Screen<R> | undefined): Shown<R> {
  const subscribe = useCallback((changed: () => void) => screen?.subscribe(changed) ?? (() => undefined), [screen]);
  const snapshot = useCallback(() => screen?.snapshot() ?? nothing, [screen]);
  return useSyncExternalStore(subscribe, snapshot, snapshot);
}

const screens = new WeakMap<object, Screen<never>>();

/**
 * Follows a live query of your own: a summary, SQL, a setting. Make it once, outside of rendering or in `useMemo`.
 *
 * @example
 * const counts = useMemo(() => replica.liveSummary({ from: 'hive', by: ['queen'], measures: { hives: 'count' } }), [replica])
 * const { rows, ready } = useLive(counts)
 */
export function useLive<R>(live: LiveQuery<R>): Shown<R> {
  let screen = screens.get(live) as unknown as Screen<R> | undefined;
  if (screen === undefined) {
    screen = new Screen(live);
    screens.set(live, screen as unknown as Screen<never>);
  }
  return useScreen(screen);
}
