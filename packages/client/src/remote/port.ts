/** A way to another thread: a worker, its parent port, or either end of a message channel, in Node or a browser. */
export interface Port {
  /** Sends a message, and hands these buffers over with it. */
  postMessage(message: unknown, transfer: ArrayBuffer[]): void;
  /** As Node's ports have it; `message`, `close` and `exit` are listened to. */
  on?(event: string, listener: (message: unknown) => void): unknown;
  /** As browsers' ports have it. */
  addEventListener?(event: string, listener: unknown): void;
  /** Begins to hand out messages, where the port waits for that. */
  start?(): void;
}

/** Calls with every message that arrives. */
export function hear(port: Port, listener: (message: unknown) => void): void {
  if (port.on) port.on('message', listener);
  else port.addEventListener?.('message', (event: { readonly data: unknown }) => listener(event.data));
  port.start?.();
}

/** Calls when the other side is gone, where the port can tell. */
export function whenGone(port: Port, listener: () => void): void {
  port.on?.('close', listener);
  port.on?.('exit', listener);
}

/** Bytes from this size on are handed over instead of being copied by the platform, which takes several times as long. */
const large = 64_000;

/**
 * A copy of a row, or of an array of rows, in which large bytes are copies of their own that may be handed over; the
 * same object where there are none.
 */
export function withCopies(value: unknown, transfer: ArrayBuffer[]): unknown {
  if (Array.isArray(value)) {
    const copies = value.map((each) => withCopies(each, transfer));
    return copies.some((copy, i) => copy !== value[i]) ? copies : value;
  }
  if (value === null || typeof value !== 'object') return value;
  let copy: Record<string, unknown> | undefined;
  for (const [name, member] of Object.entries(value)) {
    if (!(member instanceof Uint8Array) || member.byteLength < large) continue;
    const bytes = new Uint8Array(member);
    transfer.push(bytes.buffer);
    copy ??= { ...value };
    copy[name] = bytes;
  }
  return copy ?? value;
}
