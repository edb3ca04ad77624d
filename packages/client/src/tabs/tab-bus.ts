/** A message of a tab to all others that have the same database open. */
export type TabBroadcast =
  /** A tab has the database from now on. */
  | { readonly type: 'owner'; readonly term: string }
  /** A tab looks for the owner, and how well it could be one itself. */
  | ({ readonly type: 'hello'; readonly tab: string } & TabState)
  /** Is the owner alive? Its page answers, since its worker may be busy. */
  | { readonly type: 'ping' }
  | { readonly type: 'pong'; readonly term: string };

/** How well a tab could run the database: one with a newer schema before others, then one that is visible. */
export interface TabState {
  readonly version: number;
  readonly visible: boolean;
}

/** A message between the owner and one other tab, on a channel of their own. */
export type TabMessage =
  | { readonly type: 'up'; readonly term: string; readonly message: unknown }
  | { readonly type: 'welcome'; readonly term: string }
  | { readonly type: 'down'; readonly term: string; readonly message: unknown };

/** Tells whether a tab in the one state should rather run the database than one of the other. */
export function isBetter(one: TabState, other: TabState): boolean {
  if (one.version !== other.version) return one.version > other.version;
  return one.visible && !other.visible;
}

/** A broadcast channel with the type of its messages. */
export class Channel<Message> {
  private readonly channel: BroadcastChannel;

  constructor(name: string, listener: (message: Message) => void) {
    this.channel = new BroadcastChannel(name);
    this.channel.onmessage = (event: { readonly data: unknown }) => listener(event.data as Message);
  }

  post(message: Message): void {
    this.channel.postMessage(message);
  }

  close(): void {
    this.channel.close();
  }
}

/** The name of the lock that the owner of a database holds, and of the channel all its tabs hear. */
export const databaseLock = (name: string) => `koinon ${name}`;

/** The name of the lock that a tab holds while it is there, and of the channel between it and the owner. */
export const tabLock = (name: string, tab: string) => `koinon ${name} ${tab}`;
