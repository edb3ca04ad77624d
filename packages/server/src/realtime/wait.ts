import type { Cursor } from '@koinon/core';
import type { Follower, Hub, Window } from './hub.ts';

/** Milliseconds an answer is held back at most: below what proxies allow. */
const longest = 25_000;

/**
 * Waits until there is something behind a cursor; false when the time is over.
 *
 * @param held takes the function that ends the waiting early.
 */
export function waitForChange(hub: Hub, cursor: Cursor, token: string, held: Set<() => void>): Promise<boolean> {
  return new Promise((answer) => {
    const end = (moved: boolean) => {
      clearTimeout(timer);
      held.delete(release);
      leave();
      answer(moved);
    };
    const release = () => end(false);
    const timer = setTimeout(release, longest);
    held.add(release);
    const follower: Follower = {
      joined: ({ entries }: Window) => entries.length > 0 && end(true),
      window: ({ entries }: Window) => entries.length > 0 && end(true),
      behind: () => end(true),
    };
    const leave = hub.follow(follower, cursor, token);
  });
}
