import { openAlbum } from './album.ts';

// A device of the row `files-memory`, in a process of its own: sends a film, or fetches all. Says how much memory that took above what it took before.
const [way, url, path, bytes] = process.argv.slice(2) as ['up' | 'down', string, string, string];
const device = await openAlbum(url, path);
// An upload that waits for its turn does not keep a process alive.
const alive = setInterval(() => undefined, 1_000);
const idle = process.memoryUsage().rss;
if (way === 'up') {
  await device.film(Number(bytes));
  await device.send();
} else {
  await device.replica.sync();
  for (const { content } of await device.replica.rows({ from: 'film' })) {
    const opened = await device.files.openFile(content);
    if (opened.size !== content.bytes) throw new Error(`${opened.size} bytes have come of ${content.bytes}`);
  }
}
await device.close();
clearInterval(alive);
process.stdout.write(String(process.resourceUsage().maxRSS / 1e3 - idle / 1e6));
