import { KoinonError } from '@koinon/core';

/** Bytes a millisecond that a link has at least: of what goes up, nothing tells how far it is. */
const slowest = 8;

/**
 * Ends what a controller is for when a signal is given, until the returned function is called. `AbortSignal.any` does the
 * same, and is younger than many phones.
 */
export function endWith(signal: AbortSignal | undefined, controller: AbortController): () => void {
  const end = () => controller.abort(signal?.reason);
  if (signal?.aborted) end();
  else signal?.addEventListener('abort', end);
  return () => signal?.removeEventListener('abort', end);
}

/** How long is waited for the next sign of an answer. */
export class IdleTimeout {
  private readonly controller = new AbortController();
  private readonly release: () => void;
  private timer: ReturnType<typeof setTimeout> | undefined;
  /** Milliseconds that were waited last, and whether nothing came in them. */
  waited = 0;
  isOver = false;
  /** Milliseconds that are waited for the next sign. */
  most: number;

  /** @param most milliseconds. @param signal ends the waiting as well. */
  constructor(most: number, signal: AbortSignal | undefined) {
    this.most = most;
    this.release = endWith(signal, this.controller);
  }

  get signal(): AbortSignal {
    return this.controller.signal;
  }

  /** Waits anew. @param bytes that go up first. */
  begin(bytes = 0): void {
    clearTimeout(this.timer);
    this.waited = Math.round(this.most + bytes / slowest);
    this.timer = setTimeout(() => {
      this.isOver = true;
      this.controller.abort();
    }, this.waited);
  }

  end(): void {
    clearTimeout(this.timer);
    this.release();
  }
}

/**
 * The text of an answer, told of while it comes.
 *
 * @param most bytes, after decompression.
 * @throws KoinonError `server-answer` where there are more.
 */
export async function textOf(response: Response, most: number, came: (bytes: number) => void): Promise<string> {
  const { body } = response;
  // Not every shell's `fetch` gives an answer piece by piece.
  if (!body) return response.text();
  const decoder = new TextDecoder();
  let text = '';
  let bytes = 0;
  for (const reader = body.getReader(); ; ) {
    const { done, value } = await reader.read();
    if (done) return text + decoder.decode();
    came(value.length);
    bytes += value.length;
    if (bytes > most) {
      await reader.cancel();
      throw new KoinonError(
        'server-answer',
        `The server's answer has more than ${most} bytes, and was not read on. No Koinon server sends that much at once.`,
      );
    }
    text += decoder.decode(value, { stream: true });
  }
}
