import { randomBytes } from 'node:crypto';
import { openReplica } from '@koinon/client';
import { folderContents, openFiles } from '@koinon/client/files';
import photos from './photos.ts';

// Takes so many photos, and sends them until it is killed, wherever it happens to be; tells of each row that was acknowledged.
const [path, server, count] = process.argv.slice(2) as [string, string, string];
const replica = await openReplica({ schema: photos, file: path, server, sync: { minDelay: 50, maxDelay: 200 } });
const files = await openFiles(replica, { server, contents: folderContents(`${path}.files`) });
for (let n = 0; n < Number(count); n++) {
  const photo = await files.saveFile(randomBytes(400_000), { type: 'application/octet-stream' });
  const { id } = await replica.insert('visit', { notes: 'brood', photo });
  process.stdout.write(`${id}\n`);
}
setInterval(() => undefined, 60_000);
