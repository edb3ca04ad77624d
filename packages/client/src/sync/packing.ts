/** Length from which compressing a request is worth the time, and from which its time tells how fast the link is. */
const [worthwhile, telling] = [4_096, 16_384];

/** Bytes a millisecond from which on compressing takes longer than it saves. */
const fast = 1_000;

/** The body of a request: compressed, as it is, or none. */
export type Body = ArrayBuffer | string | undefined;

/** Tells whether requests are compressed: where the server says that it takes that, and the link is not fast. */
export class Packing {
  private isTaken = false;
  private isSlow: boolean;
  private wasRefused = false;

  /** @param root where the server is. A link that does not leave this machine is taken to be fast. */
  constructor(root: string) {
    this.isSlow = !/^https?:\/\/(localhost|127\.\d|\[::1\])/.test(root);
  }

  /** A body as it is to be sent. */
  async pack(body: string): Promise<ArrayBuffer | string> {
    const isWorthIt = this.isTaken && this.isSlow && !this.wasRefused && body.length >= worthwhile;
    if (!isWorthIt || typeof CompressionStream === 'undefined') return body;
    return new Response(new Blob([body]).stream().pipeThrough(new CompressionStream('gzip'))).arrayBuffer();
  }

  /** Notes what an answer says of the server, and its time of the link. */
  note({ headers }: Response, size: number, took: number): void {
    this.isTaken = headers.get('accept-encoding')?.includes('gzip') === true;
    if (size >= telling) this.isSlow = size / took < fast;
  }

  /** Tells whether a compressed request was refused for being that, by a proxy on the way, say: then it is sent as it is. */
  isRefused({ status }: Response): boolean {
    if (status !== 400 && status !== 415) return false;
    this.wasRefused = true;
    return true;
  }
}

/** Bytes of a body, about. */
export const sizeOf = (body: Body): number => (typeof body === 'object' ? body.byteLength : (body?.length ?? 0));
