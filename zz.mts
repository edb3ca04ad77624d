import { syncRows } from './bench/sync.ts';

const row = syncRows.find((r) => r.row === 'sync-upload')!;
const s = await row.prepare();
console.log(await s.koinon(), await s.koinon());
await s.close();
