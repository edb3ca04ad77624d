import { spawn } from 'node:child_process';
import { mkdir, mkdtemp, readFile, rm, symlink, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openNodeDriver } from '@koinon/client';
import { adoptSqlite, sqliteStore, startServer } from '@koinon/server';
import { afterAll, beforeAll, expect, test } from 'vitest';

// The code in the documents is run as it stands there.

const root = join(import.meta.dirname, '../..');
const blocks = (text: string, language: string) =>
  [...text.matchAll(new RegExp(`\`\`\`${language}\\n(.*?)\`\`\``, 'gs'))].map((match) => match[1] as string);
let folder: string;
let readme: string;
beforeAll(async () => {
  folder = await mkdtemp(join(tmpdir(), 'koinon-docs-'));
  readme = await readFile(join(root, 'README.md'), 'utf8');
  await mkdir(join(folder, 'tour'));
  await symlink(join(root, 'node_modules'), join(folder, 'tour/node_modules'));
  await writeFile(join(folder, 'tour/package.json'), '{ "type": "module" }');
  await writeFile(join(folder, 'tour/schema.ts'), blocks(readme, 'ts')[0] as string);
});
afterAll(() => rm(folder, { recursive: true, force: true }));

const serve = async (file: string) => {
  const { default: cooperative } = await import(join(folder, 'tour/schema.ts'));
  return startServer({ store: await sqliteStore(cooperative, join(folder, file)), port: 0 });
};

test('the README’s tour runs as it stands', async () => {
  const server = await serve('tour.db');
  const [, tour, refused, local] = blocks(readme, 'ts') as [string, string, string, string];
  const [call, comment] = refused.trim().split('\n') as [string, string];
  const check = `
    import assert from 'node:assert/strict';
    assert.deepEqual(strong.map(({ mark, strength, frames }) => ({ mark, strength, frames })), [{ mark: 'A1', strength: 7, frames: 3 }]);
    assert.equal(report.up.applied, 5);
    assert.deepEqual(open, []);
    await assert.rejects(async () => { ${call} }, (error) => \`// KoinonError \${error.code}: \${error.message}\` === ${JSON.stringify(comment)});
    ${local}
    assert.deepEqual([seen, problems, perSite.map((row) => ({ ...row }))], [['', 'A1 at Tolver Down', 'B2 at Tolver Down', 'A1 at Tolver Down'].slice(seen[0] === '' ? 0 : 1), [], [{ name: 'Tolver Down', hives: 1, mean: 7 }]]);
    await replica.close();`;
  await runs(
    'tour',
    tour.replace('http://127.0.0.1:4280', server.url).replace("'phone.db'", JSON.stringify(join(folder, 'phone.db'))) +
      check,
  );
  await server.close();
});

test('the README’s office database is adopted, served and written as it stands', async () => {
  const [sql = ''] = blocks(readme, 'sql');
  const [moduleBlock = '', deviceBlock = ''] = blocks(readme, 'ts').slice(-2);
  const [file, written] = [join(folder, 'office.db'), join(folder, 'tour/office.ts')];
  const driver = await openNodeDriver({ file });
  driver.exec(sql);
  const { module } = await adoptSqlite(file);
  expect(module).toContain(moduleBlock);
  await writeFile(written, module);
  const { default: office, mapping } = await import(written);
  const server = await startServer({ store: await sqliteStore(office, file, { mapping }), port: 0 });
  const program = `
    import assert from 'node:assert/strict';
    import { openReplica } from '@koinon/client';
    import office from './office.ts';
    const device = await openReplica({ schema: office, server: ${JSON.stringify(server.url)} });
    await device.sync();
    ${deviceBlock}
    assert.deepEqual({ ...numbered }, ${deviceBlock.match(/\/\/ (\{.*\})/)?.[1]});
    assert.equal(lent.days, 7);
    await device.close();`;
  await runs('office-device', program);
  expect(driver.prepare('SELECT member, tool, days FROM loans').all()).toEqual([
    { member: 2, tool: 'smoker', days: 7 },
  ]);
  driver.close();
  await server.close();
});

const blocksOf = async (page: string) => blocks(await readFile(join(root, 'docs/guide', `${page}.md`), 'utf8'), 'ts');

test('the guide’s pages about local data run as they stand', async () => {
  const pages = ['modelling', 'writing', 'reading', 'forms', 'schema-versions', 'import-export'];
  const guide = (await Promise.all(pages.map(blocksOf))).flat();
  const [schemaBlock = '', labels = '', writing, asking, following = '', trying, opening = '', transfer] = guide;
  await writeFile(join(folder, 'tour/apiary.ts'), schemaBlock);
  const program = `
    import assert from 'node:assert/strict';
    import { openReplica } from '@koinon/client';
    import { exportRows, importRows } from '@koinon/client/transfer';
    import { reference, schema, sql, table, text } from '@koinon/core';
    import { apiary } from './apiary.ts';
    const shown: unknown[] = [], show = (given: unknown) => shown.push(given), report_ = show, log = show, write = show;
    const replica = await openReplica({ schema: apiary });
    ${labels}
    const skeps = await openReplica({ schema: labelled });
    const ida = await skeps.insert('keeper', { name: 'Ida' });
    await skeps.insert('skep', { keeper: ida.id });
    const told = await Promise.all([skeps.insert('keeper', { name: 'Ida' }), skeps.delete('keeper', ida.id)].map((call) => call.then(() => '', ({ message }) => message)));
    assert.deepEqual(told, ${JSON.stringify(labels.match(/(?<=^\/\/ ).*/gm))});
    await skeps.close();
    ${writing}
    assert.deepEqual([weak, await replica.setting('units'), (await replica.get('hive', a1.id)).tags], [1, 'lb', ['gentle']]);
    ${asking}
    assert.deepEqual(hives.map(({ mark, place }) => [mark, place?.name]), [['A1', 'Marrowfen, upper gate'], ['A2', 'Marrowfen, upper gate']]);
    assert.deepEqual([sites[0].hives.length, perQueen.length, nextPage.map(({ mark }) => mark), strongest[0].mark], [2, 2, ['A2'], 'A1']);
    ${following.replace('report(error)', 'report_(error)')}
    await replica.update('hive', a1.id, { queen: 'missing' });
    assert.equal(shown.length, 3);
    ${trying}
    assert.deepEqual([problems, underneath, state.changed.length > 0, await replica.get('hive', a1.id)], [[], [], true, undefined]);
    stop(); deaf();
    ${opening.replace("'apiary.db'", JSON.stringify(join(folder, 'apiary.db')))}
    assert.equal(await opened.count({ from: 'site' }), 1);
    ${transfer}
    assert.deepEqual(report, { rows: 1 });
    await replica.close(); await opened.close();`;
  await runs('guide', program);
});

test('the guide’s page about offline and sync runs as it stands', async () => {
  const [opening, listening, signing] = await blocksOf('offline');
  const program = `
    import assert from 'node:assert/strict';
    import { openReplica } from '@koinon/client';
    import { counter, integer, reference, schema, table, text } from '@koinon/core';
    import { sqliteStore, startServer } from '@koinon/server';
    const apiary = schema({ hive: table({ mark: text() }), visit: table({ hive: reference('hive'), mites: integer() }) });
    const shown: string[] = [], show = (text: string) => shown.push(text), warned: unknown[] = [], warn = (events: readonly object[]) => warned.push(...events);
    const session = { token: () => 'runa' };
    const store = await sqliteStore(apiary, ${JSON.stringify(join(folder, 'offline.db'))});
    const { url, close } = await startServer({ store, port: 0 });
    ${opening}
    assert.match(shown.at(-1) as string, /^live: 0 to send/);
    ${listening}
    ${signing}
    await signedIn.sync();
    await signedIn.insert('visit', { id: 'v', hive: 'h', mites: 9 });
    while (warned.length === 0) await new Promise((done) => setTimeout(done, 20));
    stop();
    for (const each of [replica, signedIn, { close }, store]) await each.close();`;
  await runs(
    'offline',
    program
      .replaceAll("'http://127.0.0.1:4280'", 'url')
      .replace("'phone.db'", JSON.stringify(join(folder, 'offline-phone.db')))
      .replace("'tablet.db'", JSON.stringify(join(folder, 'offline-tablet.db'))),
  );
});

test('the guide’s page about photos runs as it stands', async () => {
  const [schemaBlock = '', serving = '', opening = '', saving = '', waiting = '', reading = '', archiving = ''] =
    await blocksOf('photos');
  await writeFile(join(folder, 'tour/schema-photos.ts'), schemaBlock);
  const program = `
    import assert from 'node:assert/strict';
    ${serving
      .replace("'office.db'", JSON.stringify(join(folder, 'photos.db')))
      .replace("'office-files'", JSON.stringify(join(folder, 'office-files')))
      .replace('{ store,', '{ store, port: 0,')}
    ${opening
      .replace(/^import \{ apiary.*$/m, '')
      .replaceAll("'http://127.0.0.1:4280'", 'server.url')
      .replace("'phone.db'", JSON.stringify(join(folder, 'photos-phone.db')))
      .replace("'phone.db.files'", JSON.stringify(join(folder, 'photos-phone')))}
    const show = (_: unknown) => undefined;
    ${saving}
    ${waiting}
    await replica.sync();
    while ((await files.waiting()).length > 0) await new Promise((done) => setTimeout(done, 20));
    ${reading}
    assert.deepEqual([await content.text(), url.startsWith('blob:'), state], ['a drawing', true, { at: 'here', isSent: true }]);
    release(); stop();
    ${archiving.replace("'archive'", JSON.stringify(join(folder, 'archive')))}
    assert.deepEqual([copied, missing, taken], [1, [], { copied: 0, bytes: 0, missing: [] }]);
    await files.close(); await replica.close(); await server.close();`;
  await runs('photos', program.replaceAll("'./schema.ts'", "'./schema-photos.ts'"));
});

test('the guide’s page about data of others runs as it stands', async () => {
  const [schemaBlock = '', opening = ''] = await blocksOf('sources');
  await writeFile(join(folder, 'tour/schema-sources.ts'), schemaBlock);
  const program = `
    import assert from 'node:assert/strict';
    import { createServer } from 'node:http';
    import type { AddressInfo } from 'node:net';
    interface Row { readonly id: string; readonly site: string; readonly degrees: number }
    let asked = 0;
    const weather = createServer((request, response) => {
      asked++;
      const isKnown = request.headers['if-none-match'] === '"1"';
      response.writeHead(isKnown ? 304 : 200, { etag: '"1"' }).end(isKnown ? '' : '[]');
    });
    await new Promise<void>((done) => weather.listen(0, done));
    const show = (_: unknown) => undefined;
    ${opening
      .replace("'phone.db'", JSON.stringify(join(folder, 'sources.db')))
      .replace("'http://127.0.0.1:4290/forecast'", "'http://127.0.0.1:' + (weather.address() as AddressInfo).port")}
    await forecast.refresh();
    assert.deepEqual([asked >= 2, phase, isStale, error, typeof checkedAt], [true, 'idle', false, null, 'string']);
    stop();
    await forecast.close(); await replica.close(); weather.closeAllConnections(); weather.close();`;
  await runs('sources', program.replaceAll("'./schema.ts'", "'./schema-sources.ts'"));
});

test('the guide’s page about actions runs as it stands', async () => {
  const [schemaBlock = '', serving = '', invoking = '', listing = ''] = await blocksOf('actions');
  await writeFile(join(folder, 'tour/schema-actions.ts'), schemaBlock);
  const program = `
    import assert from 'node:assert/strict';
    const letters: unknown[] = [];
    const sendLetter = async (payload: unknown, _: object) => void letters.push(payload);
    const shown: unknown[] = [], show = (value: unknown) => shown.push(value);
    ${serving
      .replace("'office.db'", JSON.stringify(join(folder, 'actions.db')))
      .replace('{ store,', '{ store, port: 0,')}
    const { writeRows } = await import('@koinon/server');
    const site = (id: string, room: number) => ({ kind: 'insert', table: 'site', id, columns: { name: id, room } }) as const;
    await writeRows(store, [site('moor', 1), site('fen', 1), site('fell', 0), { kind: 'insert', table: 'hive', id: 'a1', columns: { site: 'moor', mark: 'A1' } }]);
    ${invoking
      .replace(/^import \{ apiary.*$/m, '')
      .replace("'http://127.0.0.1:4280'", 'server.url')
      .replace("'phone.db'", JSON.stringify(join(folder, 'actions-phone.db')))}
    assert.equal(number, 1);
    while (letters.length === 0) await new Promise((done) => setTimeout(done, 20));
    await replica.invoke('moveHive', { hive: 'a1', to: 'fell', movement: crypto.randomUUID() });
    await replica.sync();
    ${listing}
    await replica.sync();
    assert.deepEqual(shown[1], ['moveHive', 'refused', null, [{ code: 'action-refused', message: 'There is no room at this site.', action: 'moveHive', column: 'to' }]]);
    stop(); await replica.close(); await server.close();`;
  await runs('actions', program.replaceAll("'./schema.ts'", "'./schema-actions.ts'"));
});

test('the guide’s page about messages in another language runs as it stands', async () => {
  const [page = ''] = await blocksOf('translating');
  const said = [...page.matchAll(/console\.log\(.*\); \/\/ (.*)$/gm)].map(([, text]) => text);
  const program = `
    import assert from 'node:assert/strict';
    const printed: string[] = [], console = { log: (text: string) => printed.push(text) };
    ${page.replace("'apiary.db'", JSON.stringify(join(folder, 'translated.db')))}
    assert.deepEqual(printed, ${JSON.stringify(said)});
    await replica.close();`;
  await runs('translating', program);
});

test('the guide’s page about conflicts and refusals runs as it stands', async () => {
  const [described = '', edits, deciding, correcting, status] = await blocksOf('conflicts');
  await writeFile(join(folder, 'tour/conflicts-schema.ts'), described);
  const program = `
    import assert from 'node:assert/strict';
    import { openReplica } from '@koinon/client';
    import { serveInProcess, sqliteStore } from '@koinon/server';
    import { apiary } from './conflicts-schema.ts';
    const shown: string[] = [], show = (text: unknown) => shown.push(String(text));
    const store = await sqliteStore(apiary, ${JSON.stringify(join(folder, 'conflicts.db'))});
    const validate = ({ after }: { after: { mark: string } | null }) => (after?.mark === 'none' ? [{ column: 'mark', message: 'is no mark' }] : undefined);
    const server = serveInProcess({ store, rules: { hive: { validate } } });
    const [ida, runa] = await Promise.all([1, 2].map(() => openReplica({ schema: apiary, server: server.connect() })));
    await ida.insert('hive', { id: 'h', mark: 'A1', notes: 'calm' });
    await ida.sync();
    await runa.sync();
    ${edits}
    assert.deepEqual([merged.mites, merged.notes, open.map(({ local, remote }) => [local, remote])], [9, 'swarmed\\ncalm\\nqueen seen', [['A1 north', 'A1 east']]]);
    ${deciding}
    assert.deepEqual([shown.length, await ida.conflicts(), (await ida.get('hive', 'h')).mark], [1, [], 'A1 east']);
    await ida.update('hive', 'h', { mark: 'none' });
    await ida.sync();
    ${correcting}
    assert.deepEqual([shown[1], await ida.rejections()], ['mark: is no mark', []]);
    ${status}
    assert.equal(rows[0].sync.status, 'synced');
    for (const each of [ida, runa, server, store]) await each.close();`;
  await runs('conflicts', program);
});

test('the guide to who gets what runs as it stands', async () => {
  const guide = await blocksOf('who-gets-what');
  const [scoped = '', asking = '', holding = '', , , untying = ''] = guide;
  const [keep, erase, take = '', link] = untying.trim().split('\n');
  const program = `
    import assert from 'node:assert/strict';
    import { openNodeDriver, openReplica } from '@koinon/client';
    import { integer, reference, schema, table, text } from '@koinon/core';
    import { type Scopes, sqliteStore, startServer } from '@koinon/server';
    const path = ${JSON.stringify(join(folder, 'scoped.db'))}, file = ${JSON.stringify(join(folder, 'scoped-phone.db'))};
    const authenticate = (token: string) => ({ id: token, claims: {} });
    const token = () => 'runa';
    ${scoped
      .replace('const scopes:', 'const store = await sqliteStore(cooperative, path);\nconst scopes:')
      .replace('await startServer({ store,', 'const running = await startServer({ port: 0, store,')}
    const server = running.url;
    const office = await openNodeDriver({ file: path });
    office.exec(\`INSERT INTO site VALUES ('site-7', 'Marrowfen', 'runa'), ('site-8', 'Tolver Down', 'runa'), ('site-9', 'Ellerbank', 'ilse');
      INSERT INTO hive VALUES ('h7', 'site-7', 'A1', 90), ('h8', 'site-8', 'A2', 90), ('h9', 'site-9', 'A3', 90); INSERT INTO tool VALUES ('t', 'ilse', 'smoker')\`);
    const held = async () => [await replica.count({ from: 'site' }), await replica.rows({ from: 'hive', order: 'mark' }), await replica.count({ from: 'tool' })];
    const hive = (id: string, site: string, mark: string) => ({ id, site, mark, price: null });
    let replica = await openReplica({ schema: cooperative, file, server, token });
    await replica.sync();
    assert.deepEqual(JSON.parse(JSON.stringify(await held())), [3, [hive('h7', 'site-7', 'A1'), hive('h8', 'site-8', 'A2')], 0]);
    await replica.close();
    replica = ${asking.trim().replace('  schema,', '  schema: cooperative,')}
    await replica.sync();
    assert.deepEqual(JSON.parse(JSON.stringify(await held())), [3, [hive('h7', 'site-7', 'A1')], 0]);
    ${holding.replace('const { hive: size }', 'const { hive: size = { rows: 0, bytes: 0 } }').replace('const [held]', 'const [kept]')}
    assert.deepEqual(size, ${holding.match(/\/\/ (\{ rows.*?\})/)?.[1]});
    assert.deepEqual([kept?.id, kept?.state, kept?.rows, await replica.count({ from: 'hive' })], ['this week', 'here', 1, 2]);
    await replica.sync();
    assert.deepEqual(JSON.parse(JSON.stringify(await held())), [3, [hive('h7', 'site-7', 'A1')], 0]);
    ${keep}
    ${link}
    ${erase}
    assert.deepEqual(await held(), [0, [], 0]);
    ${link}
    await replica.sync();
    assert.deepEqual((${take.replace(/;.*/, '')}).left.map(({ id }) => id).sort(), ['site-8', 'site-9']);
    await replica.close();
    office.close();
    await running.close();`;
  await runs('scoped', program);
});

/** The examples in the public docs of some files. */
async function examplesOf(folder: string, files: readonly string[]): Promise<string[]> {
  const sources = await Promise.all(files.map((file) => readFile(join(root, 'packages', folder, file), 'utf8')));
  return sources.flatMap((source) =>
    [...source.matchAll(/@example\n((?: +\*.*\n)+?) +\*\//g)].map(([, block]) =>
      (block as string).replace(/^ +\* ?/gm, ''),
    ),
  );
}

test('every example in the public docs compiles, and runs as it stands', async () => {
  const ofReplica = await examplesOf('client/src/replica', ['data-api.ts', 'replica.ts', 'draft.ts']);
  const others = [
    ...(await examplesOf('core/src', ['table/column.ts', 'values/compare.ts'])),
    ...(await examplesOf('server/src', [
      'http/server.ts',
      'http/plugin.ts',
      'http/in-process.ts',
      'auth/authenticate.ts',
      'adopt/adopt.ts',
    ])),
    ...(await examplesOf('server/src/store', ['sqlite/store.ts', 'sqlite/maintenance.ts'])),
    ...(await examplesOf('server/src/store/postgres', ['store.ts', 'maintenance.ts'])),
    ...(await examplesOf('client/src/inspect', ['inspect.ts', 'rescue.ts', 'verify.ts'])),
    ...(await examplesOf('client/src', ['driver/node.ts', 'sync/transport.ts', 'catalog/files.ts'])),
    ...(await examplesOf('client/src/files', ['contents.ts', 'folder.ts'])),
    ...(await examplesOf('server/src/files', ['folder.ts'])),
  ];
  const ofFiles = await examplesOf('client/src/files', ['files.ts']);
  expect([ofReplica.length > 50, others.length, ofFiles.length]).toEqual([true, 48, 9]);
  // A database on a network is not there: what needs one is compiled only.
  const block = (example: string, n: number) =>
    `${example.includes('postgres://') ? 'async () =>' : ''} { process.chdir(mkdtempSync('${folder}/example-${n}-'));
      const phone = await openReplica({ schema: cooperative, file: 'phone.db' }), store = await sqliteStore(cooperative, 'office.db');
      await phone.close(); await (await sqliteStore(cooperative, 'server.db')).close();
      const schema = cooperative;
      { ${example.replace('4280', '0').replace('{ store, authenticate }', '{ store, authenticate, port: 0 }')}\n} };`;
  const program = `
    import { mkdtempSync } from 'node:fs';
    import * as client from '@koinon/client';
    import * as contents from '@koinon/client/files';
    import * as core from '@koinon/core';
    import * as served from '@koinon/server';
    import { fastify } from 'fastify';
    import { cooperative, withHives } from ${JSON.stringify(join(root, 'test/support/cooperative.ts'))};
    const { bigInteger, boolean, bytes, counter, date, decimal, decimalCounter, file, integer, json, localDateTime, oneOf, real, reference, sameValue, setOfText, sql, text, time, timestamp } = core;
    const { deleteReplica, httpTransport, inspectReplica, listReplicas, openNodeDriver, openReplica, renameReplica, rescueReplica, verifyFile } = client;
    const { folderContents, memoryContents, openFiles } = contents;
    const { adoptPostgres, adoptSqlite, alterPostgres, alterSqlite, folderStorage, jwtAuthentication, koinonPlugin, postgresDdl, postgresStore, renewKeyPostgres, renewKeySqlite, resendAllPostgres, resendAllSqlite, serveInProcess, sqliteDdl, sqliteStore, startServer, uninstallPostgres, uninstallSqlite } = served;
    const show = (..._: readonly unknown[]) => undefined;
    ${ofReplica.map((example, n) => `{ const file = '${folder}/copy-${n}.db'; await withHives('${folder}/hives-${n}.db', async (replica) => {\n${example}\n}); }`).join('\n')}
    ${others.map(block).join('\n')}
    ${ofFiles.map((example) => `{ const replica = await openReplica({ schema: cooperative }), files = await openFiles(replica, { contents: memoryContents() }), photo = await files.saveFile(new Uint8Array([1]), { type: 'text/plain' });\n{ ${example}\n} }`).join('\n')}
    process.exit(0);`;
  await runs('examples', program);
  const configuration = {
    extends: join(root, 'tsconfig.json'),
    compilerOptions: {
      noUncheckedIndexedAccess: false,
      noUnusedLocals: false,
      rewriteRelativeImportExtensions: false,
      types: ['node'],
      typeRoots: [join(root, 'node_modules/@types')],
    },
    include: ['examples.ts'],
  };
  await writeFile(join(folder, 'tour/tsconfig.json'), JSON.stringify(configuration));
  expect(await run(join(root, 'node_modules/.bin/tsc'), ['-p', join(folder, 'tour')])).toEqual({ code: 0, output: '' });
});

test('the protocol’s curl examples run as they stand', async () => {
  const server = await serve('curl.db');
  const examples = blocks(await readFile(join(root, 'docs/protocol.md'), 'utf8'), 'sh');
  const answers = [];
  for (const example of examples) {
    const command = example.replaceAll('http://127.0.0.1:4280', server.url).replaceAll('curl ', 'curl -sS ');
    answers.push((await run('bash', ['-c', command])).output);
  }
  await server.close();
  expect(answers).toHaveLength(6);
  expect(answers[3]).toMatch(/"id":"site-1"[\s\S]*"cursor"/);
  expect(answers[4]).toMatch(/^\{"count":\d\}$/);
  expect(answers[5]).toBe('{"rows":[]}');
  expect(answers[0]).toContain('"server":"koinon"');
  expect(answers[1]).toContain('"kind":"snapshot"');
  expect(answers[2]).toContain('"outcome":"applied"');
});

/** Runs a program that a page's code was put into; it says nothing, and ends well. */
async function runs(name: string, program: string): Promise<void> {
  const file = join(folder, 'tour', `${name}.ts`);
  await writeFile(file, program);
  expect(await run(process.execPath, ['--import', 'tsx', '--conditions=koinon-source', file])).toEqual({
    code: 0,
    output: '',
  });
}

function run(command: string, words: readonly string[]): Promise<{ code: number | null; output: string }> {
  const child = spawn(command, words, { cwd: root });
  let output = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (data) => (output += data));
  return new Promise((done, fail) => {
    child.on('error', fail);
    child.on('close', (code) => done({ code, output }));
  });
}
