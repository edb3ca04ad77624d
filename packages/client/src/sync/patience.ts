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
export class Patience {
  private readonly controller = new AbortController();
  private readonly release: () => void;
  private timer: ReturnType<typeof setTimeout> | undefined;
  /** Milliseconds that were waited last, and whether nothing came in them. */
  waited = 0;
  isOver = false;
  private readonly most: number;

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

/** The text of an answer, told of while it comes. */
export async function textOf(response: Response, came: (bytes: number) => void): Promise<string> {
  const { body } = response;
  // Not every shell's `fetch` gives an answer piece by piece.
  if (!body) return response.text();
  const decoder = new TextDecoder();
  let text = '';
  for (const reader = body.getReader(); ; ) {
    const { done, value } = await reader.read();
    if (done) return text + decoder.decode();
    came(value.length);
    text += decoder.decode(value, { stream: true });
  }
}
