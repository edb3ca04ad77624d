import { mkdir, rm } from 'node:fs/promises';
import { join } from 'node:path';
import { performance } from 'node:perf_hooks';
import { setTimeout } from 'node:timers/promises';
import { KoinonError } from '@koinon/core';
import { folderStorage, postgresStore, sqliteStore, startServer, uninstallPostgres } from '@koinon/server';
import { actions } from './cooperative/actions.ts';
import { rules } from './cooperative/rules.ts';
import { cooperative } from './cooperative/schema.ts';
import { tellMembership } from './membership.ts';
import { tellMove } from './move.ts';
import { Narrator } from './narrator.ts';
import { openOffice, quoted, rowsOfFile, rowsOfStore } from './office.ts';
import { contentsOf, openPhone, type Phone, told } from './phone.ts';
import { tellPhoto } from './photo.ts';
import { tellTrip } from './trip.ts';
import { openWorkbench, type Workbench } from './workbench.ts';

/** How the story ended. */
export interface Ending {
  /** Tells whether both phones and the server hold the same rows. */
  readonly agreed: boolean;
  readonly url: string;
  /** The workbench, where its pages are there. */
  readonly workbench: Workbench | undefined;
  /** Closes the replicas and stops the server. */
  close(): Promise<void>;
}

/** The options of the story. */
export interface StoryOptions {
  /** A PostgreSQL database for the server instead of a file; the demo's tables in it are replaced. */
  readonly database?: string;
  /** The folder of the built examples: the workbench is served at the end. */
  readonly pages?: string;
  readonly pagePort?: number;
}

/**
 * Tells the story on fresh files in a folder.
 *
 * @throws KoinonError what opening a server or a replica threw.
 */
export async function tellStory(
  folder: string,
  port: number,
  { database, pages, pagePort = 0 }: StoryOptions = {},
): Promise<Ending> {
  const narrator = new Narrator();
  const files = { runa: join(folder, 'runa.db'), teodor: join(folder, 'teodor.db') };
  const serverFile = join(folder, 'server.db');
  await mkdir(folder, { recursive: true });
  for (const file of [serverFile, ...Object.values(files)])
    for (const suffix of ['', '-wal', '-shm', '.files']) await rm(`${file}${suffix}`, { force: true, recursive: true });

  narrator.title('Koinon: two bee-keepers without signal, one office, the same rows in the end.');
  narrator.chapter('The office starts its server and fills the register in plain SQL');
  if (database) {
    await uninstallPostgres(database);
    const old = await openOffice(database);
    await old.run(`DROP TABLE IF EXISTS ${Object.keys(cooperative.tables).map(quoted).join(', ')} CASCADE`);
    await old.close();
  }
  let workbench: Workbench | undefined;
  const trace = (sql: string, values: readonly unknown[]) => workbench?.ran({ sql, values });
  const store = database
    ? await postgresStore(cooperative, database, { trace })
    : await sqliteStore(cooperative, serverFile, { trace });
  const contents = folderStorage(contentsOf(serverFile));
  const server = await startServer({ store, port, rules, actions, files: contents }).catch(async (error) => {
    await store.close();
    throw error;
  });
  const office = await openOffice(database ?? serverFile);
  const counts = await office.seed();
  narrator.say(
    database
      ? `Server at ${server.url} on ${shownDatabase(database)}: ordinary tables, psql opens them.`
      : `Server at ${server.url} on ${serverFile}: ordinary tables, any SQLite tool opens them.`,
  );
  narrator.say(
    Object.entries(counts)
      .filter(([, count]) => count > 0)
      .map(([table, count]) => `${count} ${table}s`)
      .join(', '),
  );

  const runa = await openPhone('Runa', files.runa, server.url);
  const teodor = await openPhone('Teodor', files.teodor, server.url);
  const phones = [runa, teodor];

  narrator.chapter('Runa and Teodor each open the app: first download');
  for (const phone of phones) {
    const start = performance.now();
    const report = await phone.replica.sync();
    narrator.say(
      `${phone.owner}’s phone holds ${report.down.insert} rows in ${phone.file} after ${Math.round(performance.now() - start)} ms.`,
    );
  }

  narrator.chapter('Both drive out to the hives. No signal. They work all the same');
  for (const { signal } of phones) await signal.off();
  const hive = await runa.replica.get('hive', 'hive-007');
  if (hive === undefined) throw new KoinonError('no-such-row', 'The demo data has no hive-007.');
  const visit = await runa.replica.insert('visit', {
    id: 'visit-runa-1',
    hive: hive.id,
    member: 'member-01',
    at: new Date().toISOString(),
    queenSeen: true,
    brood: 'even',
    mites: 2,
    weight: 31.5,
    notes: 'calm, heather in full flow',
  });
  await runa.replica.update('hive', hive.id, { strength: 9 });
  narrator.say('Runa records a visit to hive-007 and sets the hive’s strength to 9.');
  await teodor.replica.transaction(async (transaction) => {
    await transaction.update('hive', hive.id, { notes: 'new floor fitted' });
    await transaction.update('hive', 'hive-008', { site: 'site-03' });
  });
  await teodor.replica.delete('visit', 'visit-0042');
  narrator.say('Teodor writes a note on the same hive-007 and moves hive-008 to Hask Common, both or neither,');
  narrator.say('and deletes visit-0042, which he had entered by mistake.');
  await runa.replica.sync().catch((error: KoinonError) => narrator.refusal(`Runa tries to sync: ${error.message}`));
  for (const phone of phones) {
    const { pending } = await phone.replica.status();
    narrator.say(`${phone.owner}’s outbox: ${pending} transactions waiting, safe in the file.`);
  }

  const watched = [
    { what: 'hive-007 strength', table: 'hive', id: 'hive-007', column: 'strength' },
    { what: 'hive-007 notes', table: 'hive', id: 'hive-007', column: 'notes' },
    { what: 'hive-008 site', table: 'hive', id: 'hive-008', column: 'site' },
    { what: `${visit.id} notes`, table: 'visit', id: visit.id, column: 'notes' },
    { what: 'visit-0042 mites', table: 'visit', id: 'visit-0042', column: 'mites' },
    { what: 'site-05 name', table: 'site', id: 'site-05', column: 'name' },
    { what: 'harvest-001 frames', table: 'harvest', id: 'harvest-001', column: 'frames' },
  ] as const;
  const show = async (from: number, to: number) => {
    const lines = [];
    for (const { what, table, id, column } of watched.slice(from, to)) {
      const held = await Promise.all([...phones.map(({ replica }) => replica.get(table, id)), office.row(table, id)]);
      lines.push({
        what,
        held: held.map((row) =>
          row === undefined ? '(no row)' : String((row as Record<string, unknown>)[column] ?? '(empty)'),
        ),
      });
    }
    narrator.sideBySide(['Runa’s phone', 'Teodor’s phone', 'server'], lines);
  };
  await show(0, 5);

  narrator.chapter('Back in the village there is signal. They sync');
  for (const { signal } of phones) await signal.on();
  for (const phone of [runa, teodor, runa]) narrator.say(`${phone.owner}: ${told(await phone.replica.sync())}`);
  narrator.say('Each changed another column of hive-007: both edits stand. Nothing was asked, nothing was lost.');
  await show(0, 5);

  narrator.chapter('The office edits its own database in plain SQL; the phones follow');
  const edit = "UPDATE site SET name = 'Quill Moss (gate 4)' WHERE id = 'site-05'";
  const removal = "DELETE FROM harvest WHERE id = 'harvest-001'";
  await office.run(edit);
  await office.run(removal);
  narrator.say(`sql> ${edit};`);
  narrator.say(`sql> ${removal};`);
  await show(5, 7);
  for (const phone of phones) narrator.say(`${phone.owner}: ${told(await phone.replica.sync())}`);
  await show(5, 7);

  await tellPhoto(narrator, runa, teodor);
  await tellMove(narrator, runa, office);
  await disagree(narrator, runa, teodor);
  await tellMembership(narrator, folder, store, office);
  await tellTrip(narrator, folder, server.url);

  narrator.chapter('Syncing once more moves nothing');
  for (const phone of phones) narrator.say(`${phone.owner}: ${told(await phone.replica.sync())}`);

  const onServer = database ? await rowsOfStore(store) : await rowsOfFile(serverFile);
  const onPhones = await Promise.all(Object.values(files).map(rowsOfFile));
  const differing = onPhones.map((rows) => differences(onServer, rows));
  const agreed = differing.every((count) => count === 0);
  narrator.verdict(
    agreed,
    agreed
      ? `All three hold the same ${onServer.size} rows, compared row by row.`
      : `They differ: ${phones.map(({ owner }, i) => `${owner}’s phone in ${differing[i]} rows`).join(', ')}.`,
  );
  const close = async () => {
    await workbench?.close();
    await office.close();
    for (const { replica, signal } of phones) {
      await replica.close();
      await signal.off();
    }
    await server.close();
  };
  if (pages !== undefined)
    workbench = await openWorkbench({ store, office, contents, pages, port: pagePort }).catch(async (error) => {
      await close();
      throw error;
    });
  return { agreed, url: server.url, workbench, close };
}

/** Both change the same hive; and one types a weight that the office refuses. */
async function disagree(narrator: Narrator, runa: Phone, teodor: Phone): Promise<void> {
  narrator.chapter('Out again without signal: both change the same things, and one mistypes');
  for (const { signal } of [runa, teodor]) await signal.off();
  await teodor.replica.update('hive', 'hive-013', {
    queen: 'missing',
    strength: 3,
    notes: 'old note\nTeodor: no eggs',
  });
  await setTimeout(20);
  await runa.replica.update('hive', 'hive-013', { queen: 'unmarked', strength: 6 });
  const typo = { id: 'visit-runa-2', hive: 'hive-014', member: 'member-01', at: new Date().toISOString() } as const;
  await runa.replica.insert('visit', { ...typo, queenSeen: true, brood: 'even', mites: 1, weight: 315 });
  narrator.say('Teodor: hive-013 has no queen, strength 3. Runa, a little later: an unmarked queen, strength 6.');
  narrator.say('Runa notes a visit to hive-014 and types 315 kg instead of 31.5.');
  for (const { signal } of [runa, teodor]) await signal.on();
  for (const phone of [runa, teodor]) narrator.say(`${phone.owner}: ${told(await phone.replica.sync())}`);
  const hive = await teodor.replica.get('hive', 'hive-013');
  narrator.say(`The queen is merged by the newest edit: ${hive?.queen}. Nobody is asked.`);
  for (const { id, column, base, local, remote } of await teodor.replica.conflicts())
    narrator.refusal(`Teodor is asked about ${id} ${column}: before ${base}, mine ${local}, theirs ${remote}.`);
  await teodor.replica.resolve('hive', 'hive-013', { strength: { value: 5 } });
  narrator.say('He was there again on the way back, and types 5.');
  for (const { problems } of await runa.replica.rejections())
    for (const { message } of problems) narrator.refusal(`Runa’s visit-runa-2 is refused: ${message}`);
  await runa.replica.update('visit', typo.id, { weight: 31.5 });
  narrator.say('She corrects it to 31.5. All else had gone through meanwhile.');
  for (const phone of [teodor, runa, teodor]) narrator.say(`${phone.owner}: ${told(await phone.replica.sync())}`);
}

/** The address of a database without its user and password. */
function shownDatabase(address: string): string {
  const { protocol, host, pathname } = new URL(address);
  return `${protocol}//${host}${pathname}`;
}

/** In how many rows two sets of rows differ. */
function differences(a: ReadonlyMap<string, string>, b: ReadonlyMap<string, string>): number {
  const keys = new Set([...a.keys(), ...b.keys()]);
  return [...keys].filter((key) => a.get(key) !== b.get(key)).length;
}
