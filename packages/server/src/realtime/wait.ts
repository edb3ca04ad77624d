import type { Cursor, Only } from '@koinon/core';
import type { Access } from '../pull/pull.ts';
import type { Follower, Hub, Window } from './hub.ts';

/** Milliseconds an answer is held back at most: below what proxies allow. */
const longest = 25_000;

/** The request that waits, and from where on. */
export interface Waiting {
  readonly cursor: Cursor;
  readonly token: string;
  readonly access: Access;
  readonly asked?: Only | undefined;
  readonly replica?: string | undefined;
  /** The tables that it queries. */
  readonly queried?: ReadonlySet<string> | undefined;
}

/** The functions that end what is held open. */
export interface HeldOpen {
  add(release: () => void): void;
  delete(release: () => void): void;
}

const isNews = ({ rows, applied }: Window) => rows.length > 0 || applied.length > 0;

/**
 * Waits until there is something behind a cursor; false when the time is over.
 *
 * @param held takes the function that ends the waiting early.
 * @throws KoinonError `too-many-requests` as {@link Hub.follow} does.
 */
export async function waitForChange(hub: Hub, { cursor, token, ...whose }: Waiting, held: HeldOpen): Promise<boolean> {
  let end: (moved: boolean) => void = () => undefined;
  const ended = new Promise<boolean>((resolve) => {
    end = resolve;
  });
  const release = () => end(false);
  const follower: Follower = {
    joined: (window: Window) => isNews(window) && end(true),
    window: (window: Window) => isNews(window) && end(true),
    behind: () => end(true),
    moved: () => end(true),
    ...whose,
  };
  const leave = hub.follow(follower, cursor, token);
  const timer = setTimeout(release, longest);
  held.add(release);
  const moved = await ended;
  clearTimeout(timer);
  held.delete(release);
  leave();
  return moved;
}
