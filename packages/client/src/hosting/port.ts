/** A way to another thread: a worker, its parent port, or either end of a message channel, in Node or a browser. */
export interface Port {
  postMessage(message: unknown): void;
  /** As Node's ports have it; `message`, `close` and `exit` are listened to. */
  on?(event: string, listener: (message: unknown) => void): unknown;
  /** As browsers' ports have it. */
  addEventListener?(event: string, listener: unknown): void;
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
