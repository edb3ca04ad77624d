/** The part of Node's own conversion that is used here, which takes much less time than the package. */
interface NodeBuffer {
  from(bytes: ArrayBufferLike, offset: number, length: number): { toString(encoding: 'base64'): string };
  from(text: string, encoding: 'base64'): Uint8Array;
}

const { Buffer } = globalThis as unknown as { readonly Buffer: NodeBuffer };

/** Bytes as base64 (RFC 4648). */
export const toBase64 = ({ buffer, byteOffset, byteLength }: Uint8Array): string =>
  Buffer.from(buffer, byteOffset, byteLength).toString('base64');

/** The bytes of a base64 text. */
export const fromBase64 = (text: string): Uint8Array => new Uint8Array(Buffer.from(text, 'base64'));
