import { isFileName } from '@koinon/core/internal';

/** Something to save: bytes, a Blob or File, or a stream of bytes. */
export type FileSource = Blob | Uint8Array | ReadableStream<Uint8Array> | AsyncIterable<Uint8Array>;

/** The bytes of a source, piece by piece. */
export async function* chunksOf(source: FileSource): AsyncGenerator<Uint8Array> {
  if (source instanceof Uint8Array) yield source;
  else if (source instanceof Blob) yield* chunksOf(source.stream() as ReadableStream<Uint8Array>);
  else if (Symbol.asyncIterator in source) yield* source as AsyncIterable<Uint8Array>;
  else {
    const reader = (source as ReadableStream<Uint8Array>).getReader();
    try {
      for (;;) {
        const { done, value } = await reader.read();
        if (done) return;
        yield value;
      }
    } finally {
      await reader.cancel().catch(() => undefined);
    }
  }
}

/** The name of a file without what a name cannot have. */
export function plainName(name: string): string | undefined {
  const plain = name.replace(/^.*[/\\]/s, '').replace(/[\p{Cc}\u200e\u200f\u202a-\u202e\u2066-\u2069]/gu, '');
  return isFileName(plain) ? plain : undefined;
}
