import { randomBytes } from 'node:crypto';
import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import { openReplica, type SyncReport } from '@koinon/client';
import type { TableName } from '@koinon/core';
import { koinonPlugin, type Store } from '@koinon/server';
import fastify from 'fastify';
import { rules } from './cooperative/rules.ts';
import { cooperative } from './cooperative/schema.ts';
import { scopes } from './cooperative/scopes.ts';
import type { Narrator } from './narrator.ts';
import type { Office } from './office.ts';
import { bySecret, mintToken } from './sign-in.ts';

/** Rows by table, as the story tells them. */
const tables = (Object.keys(cooperative.tables) as TableName<typeof cooperative>[]).filter(
  (name) => cooperative.tables[name].home !== 'server',
);

/** Ilse signs in: her phone holds her part. The office changes whose site it is, and the difference moves. */
export async function tellMembership(narrator: Narrator, folder: string, store: Store, office: Office): Promise<void> {
  narrator.chapter('Ilse signs in: her phone gets her part of the same database, and no more');
  const secret = randomBytes(32).toString('base64url');
  const app = fastify({ forceCloseConnections: true });
  await app.register(koinonPlugin, { store, rules, scopes, authenticate: bySecret(secret) });
  const server = await app.listen({ host: '127.0.0.1', port: 0 });
  const file = join(folder, 'ilse.db');
  for (const suffix of ['', '-wal', '-shm']) await rm(`${file}${suffix}`, { force: true });
  const replica = await openReplica({
    schema: cooperative,
    file,
    server,
    token: () => mintToken('member-03', secret),
  });
  try {
    await replica.sync();
    const held = [];
    for (const from of tables) {
      const count = await replica.count({ from });
      if (count > 0) held.push(`${count} ${from}s`);
    }
    narrator.say('Every member and site, the hives of her own sites and what belongs to them, her own tools:');
    narrator.say(`${held.join(', ')}.`);
    const mine = await replica.rows({ from: 'site', where: { keeper: 'member-03' }, limit: 1 });
    const [site] = mine;
    if (site === undefined) return;
    const change = `UPDATE site SET keeper = 'member-02' WHERE id = '${site.id}'`;
    await office.run(change);
    narrator.say(`sql> ${change};`);
    narrator.say(`Ilse: ${moved(await replica.sync())}. Nothing was deleted: ${site.name} is another’s now.`);
    await office.run(`UPDATE site SET keeper = 'member-03' WHERE id = '${site.id}'`);
    narrator.say(`The office gives it back. Ilse: ${moved(await replica.sync())}.`);
  } finally {
    await replica.close();
    await app.close();
  }
}

const moved = ({ down }: SyncReport) => `${down.insert} rows received, ${down.leave} left, ${down.update} changed`;
