/** Bytes a millisecond that a link has at least: of what goes up, nothing tells how far it is. */
const slowest = 8;

/** How long is waited for the next sign of an answer. */
export class Patience {
  private readonly over = new AbortController();
  private timer: ReturnType<typeof setTimeout> | undefined;
  /** Milliseconds that were waited last. */
  waited = 0;
  private readonly most: number;

  /** @param most milliseconds. */
  constructor(most: number) {
    this.most = most;
  }

  get signal(): AbortSignal {
    return this.over.signal;
  }

  get isOver(): boolean {
    return this.over.signal.aborted;
  }

  /** Waits anew. @param bytes that go up first. */
  begin(bytes = 0): void {
    this.end();
    this.waited = Math.round(this.most + bytes / slowest);
    this.timer = setTimeout(() => this.over.abort(), this.waited);
  }

  end(): void {
    clearTimeout(this.timer);
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
