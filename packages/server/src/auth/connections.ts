import type { User } from './authenticate.ts';

/** The sockets and feeds that each user holds open just now. */
export class UserConnections {
  private readonly byUser = new Map<string, Set<() => void>>();

  /** Notes what a user follows; returns a function that forgets it. @param end ends it, as where a token has expired. */
  add(user: User | undefined, end: () => void): () => void {
    if (user === undefined) return () => undefined;
    const all = this.byUser.get(user.id) ?? new Set();
    this.byUser.set(user.id, all.add(end));
    return () => {
      all.delete(end);
      if (all.size === 0 && this.byUser.get(user.id) === all) this.byUser.delete(user.id);
    };
  }

  /** Ends all that a user follows. His devices ask for another token; returns how many connections there were. */
  disconnect(user: string): number {
    const all = [...(this.byUser.get(user) ?? [])];
    for (const end of all) end();
    return all.length;
  }
}
