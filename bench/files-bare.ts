import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream } from 'node:fs';
import { pipeline } from 'node:stream/promises';
import { pieces } from './album.ts';

// The floor of the row `files-memory`: sends a file, and fetches it into another one with a digest. Says how much memory that took.
const [url, path, bytes] = process.argv.slice(2) as [string, string, string];
await pipeline(pieces(Number(bytes)), createWriteStream(`${path}.sent`));
const idle = process.memoryUsage().rss;
const request: RequestInit & { readonly duplex: 'half' } = {
  method: 'POST',
  body: createReadStream(`${path}.sent`) as never,
  duplex: 'half',
};
await (await fetch(url, request)).text();
const hash = createHash('sha256');
const answer = await fetch(url);
await pipeline(
  answer.body as ReadableStream<Uint8Array>,
  async function* (chunks: AsyncIterable<Uint8Array>) {
    for await (const chunk of chunks) {
      hash.update(chunk);
      yield chunk;
    }
  },
  createWriteStream(path),
);
process.stdout.write(String(process.resourceUsage().maxRSS / 1e3 - idle / 1e6));
