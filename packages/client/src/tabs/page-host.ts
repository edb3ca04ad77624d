import { systemHost, type TabHost } from '../host/host.ts';
import type { Request } from '../remote/messages.ts';

/** The events that the page sees and its worker does not. */
export interface Shell {
  readonly online: boolean;
  readonly visible: boolean;
}

/** A message of a page to its worker. */
export type FromPage = Request | { readonly shell: Shell };

/** Tells whether a message tells about the page, and is not for the replica. */
export function isFromPage(message: FromPage): message is { readonly shell: Shell } {
  return 'shell' in message;
}

/** The host in a tab's worker: the browser's own, and what the page tells. */
export class PageHost implements TabHost {
  readonly now = systemHost.now;
  readonly newId = systemHost.newId;
  readonly random = systemHost.random;
  readonly after = systemHost.after;
  readonly process = systemHost.process;
  readonly locks: TabHost['locks'] = {
    take: (name, { steal = false, signal, onLost } = {}) =>
      new Promise((done, fail) => {
        let isHeld = false;
        const held = navigator.locks.request(
          name,
          { ...(steal ? { steal } : {}), ...(signal ? { signal } : {}) },
          () =>
            new Promise<void>((release) => {
              isHeld = true;
              done(release);
            }),
        );
        held.catch((error) => (isHeld ? onLost?.() : fail(error)));
      }),
  };
  private shell: Shell = { online: navigator.onLine, visible: true };
  private readonly listeners = new Set<() => void>();

  isOnline = () => this.shell.online;
  isVisible = () => this.shell.visible;
  // There is one worker at a time: a lease of another has ended with it.
  isAlive = (process: string) => process === this.process;

  onChange(listener: () => void): () => void {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  }

  async storage() {
    const { usage = null, quota = null } = (await navigator.storage?.estimate?.()) ?? {};
    const isPersistent = (await navigator.storage?.persisted?.().catch(() => null)) ?? null;
    return { usage, quota, isPersistent };
  }

  /** Takes in what the page has seen. */
  set(shell: Shell): void {
    this.shell = shell;
    for (const listener of [...this.listeners]) listener();
  }
}
