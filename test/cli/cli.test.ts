import { type ChildProcess, spawn } from 'node:child_process';
import { mkdtemp, readdir, readFile, rm, symlink, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openNodeDriver, openReplica } from '@koinon/client';
import type { Schema } from '@koinon/core';
import { cooperative } from '@koinon/demo';
import { afterAll, expect, test } from 'vitest';
import { newDatabase } from '../support/stores.ts';

const root = join(import.meta.dirname, '../..');
const folder = await mkdtemp(join(tmpdir(), 'koinon-cli-'));
afterAll(() => rm(folder, { recursive: true, force: true }));

const koinon = (...words: string[]) => program('packages/cli/src/koinon.ts', words);
const demo = (...words: string[]) => program('examples/demo/src/demo.ts', words);

function program(entry: string, words: readonly string[]): ChildProcess & { readonly output: () => string } {
  const child = spawn(process.execPath, ['--import', 'tsx', '--conditions=koinon-source', entry, ...words], {
    cwd: root,
    env: { ...process.env, NO_COLOR: '1' },
  });
  let output = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (data) => (output += data));
  return Object.assign(child, { output: () => output });
}

const ended = (child: ChildProcess) => new Promise<number | null>((done) => child.on('close', done));

/** Runs a command to its end. */
async function run(...words: string[]): Promise<{ readonly code: number | null; readonly output: string }> {
  const child = koinon(...words);
  return { code: await ended(child), output: child.output() };
}

async function said(child: ReturnType<typeof koinon>, pattern: RegExp): Promise<RegExpExecArray> {
  for (;;) {
    const found = pattern.exec(child.output());
    if (found) return found;
    if (child.exitCode !== null) throw new Error(`it ended without saying ${pattern}:\n${child.output()}`);
    await new Promise((done) => setTimeout(done, 20));
  }
}

test('serve starts on a schema module, answers, and stops cleanly when asked to', async () => {
  const schemaFile = join(folder, 'schema.ts');
  await symlink(join(root, 'node_modules'), join(folder, 'node_modules'));
  await writeFile(
    schemaFile,
    "import { schema, table, text } from '@koinon/core';\nexport default schema({ note: table({ words: text() }) });\n",
  );
  const database = join(folder, 'notes.db');
  const child = koinon('serve', schemaFile, database, '--port', '0', '--origin', 'https://App.example/');
  const ending = ended(child);
  const [, url] = await said(child, /at (http:\S+)/);
  const about = await fetch(`${url}/v1/about`, { headers: { origin: 'https://app.example' } });
  expect(await about.json()).toMatchObject({ tables: ['note'] });
  expect(about.headers.get('access-control-allow-origin')).toBe('https://app.example');
  child.kill('SIGINT');
  expect(await ending).toBe(0);
  const driver = await openNodeDriver({ file: database });
  expect(
    driver.prepare("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'koinon%'").all(),
  ).toEqual([{ name: 'note' }]);
  driver.close();
});

test.each([
  [['serve', 'nowhere.ts', 'x.db'], 1, /no schema module nowhere\.ts.*schema-invalid/],
  [
    ['serve', 'examples/demo/src/cooperative/schema.ts', '/nowhere/x.db', '--port', '0'],
    1,
    /\/nowhere\/x\.db cannot be opened.*storage-refused/,
  ],
  [
    ['serve', 'examples/demo/src/cooperative/schema.ts', join(folder, 'alone.db'), '--host', '0.0.0.0'],
    1,
    /answers this machine only.*not-loopback/,
  ],
  [['serve', 'examples/demo/src/cooperative/schema.ts', 'x.db', '--port', 'high'], 2, /whole number from 0 to 65535/],
  [
    ['serve', 'examples/demo/src/cooperative/schema.ts', 'x.db', '--origin', 'https://app.example/field'],
    2,
    /not the origin of a page/,
  ],
  [['sreve'], 2, /unknown command 'sreve'/],
  [['--version'], 0, /^\d+\.\d+\.\d+/],
])('koinon %j ends with %i and says why', async (words, code, says) => {
  const child = koinon(...words);
  expect(await ended(child)).toBe(code);
  expect(child.output()).toMatch(says);
});

test('whoever has read enough of what a command prints is not told of an error', async () => {
  const child = koinon('--help');
  child.stdout?.destroy();
  expect([await ended(child), child.output()]).toEqual([0, '']);
});

test('the demo tells its story on real files and ends well only because all three hold the same rows', async () => {
  const child = demo('--exit', '--folder', join(folder, 'demo'));
  expect(await ended(child)).toBe(0);
  const story = child.output();
  expect(story).toMatch(/8 members, 20 sites, 200 hives, 2000 visits, 120 harvests/);
  expect(story).toMatch(/! Runa tries to sync: The server at \S+ cannot be reached/);
  expect(story).toMatch(/Teodor: sent 2 transactions; received 1 insert, 1 update\./);
  expect(story).toMatch(/Teodor is asked about hive-013 strength: before 7, mine 3, theirs 6\./);
  expect(story).toMatch(/merged by the newest edit: unmarked\./);
  expect(story).toMatch(/visit-runa-2 is refused: No hive weighs 315 kg/);
  expect(story).toMatch(/the picture is still on hers[\s\S]*He opens it: 318971 bytes come/);
  expect(story).toMatch(/All three hold the same 2374 rows, compared row by row\.\s*$/);
  // Seven hives and their visits were on a phone for a day, as many as it was told beforehand; the weather stays, as it was last known.
  expect(story).toMatch(/Hask Common: 7 rows of about [\d.]+ kB[^:]*: 7 came[\s\S]*visits: 60 rows[^:]*: 60 came/);
  expect(story).toMatch(/1 of 2 answers had no rows[\s\S]*wind 7[\s\S]*does not answer[\s\S]*67 rows left her phone/);
  expect((await run('look', join(folder, 'demo/odile.db'))).output).toMatch(
    /Source of forecast: as it was at[\s\S]*hive +│ 0 [\s\S]*forecast │ 20/,
  );
  // The reply of an action was lost: it was run once. What it asked for besides, and what failed of that, an operator sees.
  expect(story).toMatch(
    /The office has moved hive-020: it has 1 move[\s\S]*move number 1\. The office still has 1 move\./,
  );
  const calls = await run('look', join(folder, 'demo/runa.db'), 'actions', '--json');
  expect(JSON.parse(calls.output)).toMatchObject([
    { name: 'moveHive', state: 'applied', result: { number: 1 } },
    { name: 'moveHive', state: 'applied', result: { number: 2 } },
  ]);
  const [schemaFile, database] = [
    join(root, 'examples/demo/src/cooperative/schema.ts'),
    join(folder, 'demo/server.db'),
  ];
  expect((await run('effects', schemaFile, database)).output).toMatch(/Everything that actions have asked for is done/);
  const driver = await openNodeDriver({ file: database });
  driver.exec(
    `INSERT INTO koinon_effect (key, name, payload, added_at, due_at, attempts, error) VALUES ('k', 'letter', '{"to":"Runa"}', 0, 0, 3, 'no stamps')`,
  );
  driver.close();
  expect((await run('effects', schemaFile, database)).output).toMatch(/letter +│.*│ 3 +│.*"to":"Runa".*no stamps/);
  const checked = await run('check', schemaFile, '--database', database);
  expect(checked.output).toMatch(/1 effect of actions failed and will be tried again; letter said: no stamps/);
  expect(checked.output).toMatch(/1 effect of actions cannot be carried out: there is no function for letter\./);
});

test('on PostgreSQL: the demo, the SQL to look at first, the feed, a new stamp on everything, and no trace afterwards', async () => {
  const database = await newDatabase('PostgreSQL', folder);
  const schemaFile = join(root, 'examples/demo/src/cooperative/schema.ts');
  const ddl = await run('ddl', schemaFile, database.address);
  expect(ddl.output).toMatch(/^BEGIN;[\s\S]*CREATE TABLE "public"\."visit"[\s\S]*COMMIT;\s*$/);
  const unready = await run('changes', schemaFile, database.address);
  expect(unready).toMatchObject({ code: 1, output: expect.stringMatching(/koinon ddl.*not-served/) });
  const shell = await database.shell();
  await shell.exec(ddl.output);
  expect((await run('ddl', schemaFile, database.address)).output).toMatch(/has all that Koinon needs/);
  await shell.exec("INSERT INTO member VALUES ('m', 'Runa', 'Hask')");
  expect((await run('changes', schemaFile, database.address)).output).toMatch(/insert +│ member m/);
  expect(await run('resend-all', schemaFile, database.address)).toMatchObject({ code: 0 });
  expect(await run('uninstall', database.address)).toMatchObject({ code: 2 });
  expect(await run('uninstall', database.address, '--yes')).toMatchObject({ code: 0 });
  expect(await shell.all("SELECT FROM pg_namespace WHERE nspname = 'koinon'")).toEqual([]);
  const child = demo('--exit', '--folder', join(folder, 'demo-postgres'), '--database', database.address);
  expect(await ended(child)).toBe(0);
  expect(child.output()).toMatch(/All three hold the same 2374 rows, compared row by row\.\s*$/);
  expect(child.output()).not.toContain(new URL(database.address).password);
  await shell.close();
  await database.drop();
});

test('an SQLite file is prepared by what ddl prints, and is as it was after release', async () => {
  const schemaFile = join(root, 'examples/demo/src/cooperative/schema.ts');
  const file = join(folder, 'register.db');
  const driver = await openNodeDriver({ file });
  const tables = () => driver.prepare('SELECT name, sql FROM sqlite_schema ORDER BY name').all();
  const child = koinon('ddl', schemaFile, file, '--json');
  await ended(child);
  expect(tables()).toEqual([]);
  for (const sql of JSON.parse(child.output()) as string[]) driver.exec(sql);
  driver.exec("INSERT INTO member VALUES ('m', 'Runa', 'Hask')");
  const changes = koinon('changes', schemaFile, file, '--json');
  await ended(changes);
  expect(JSON.parse(changes.output())).toMatchObject({ entries: [{ kind: 'insert', table: 'member', id: 'm' }] });
  await ended(koinon('uninstall', file, '--yes'));
  const left = tables() as { name: string }[];
  expect(left.some(({ name }) => name.startsWith('koinon'))).toBe(false);
  expect(left.map(({ name }) => name)).toContain('visit');
  expect(driver.prepare('SELECT id FROM member').all()).toEqual([{ id: 'm' }]);
  driver.close();
});

test('look, sync, changes and replicas show and move what is there, for people and for programs', async () => {
  const schemaFile = join(root, 'examples/demo/src/cooperative/schema.ts');
  const [server, phone] = [join(folder, 'demo/server.db'), join(folder, 'demo/runa.db')];
  const json = async (...words: string[]) => JSON.parse((await run(...words, '--json')).output) as never;
  const replica = await openReplica({ schema: cooperative, file: phone });
  await replica.update('hive', 'hive-001', { strength: 1 });
  await replica.close();
  const before = await readFile(phone);
  expect((await run('look', phone)).output).toMatch(/Outbox: 1 pending, .*conflicts: 0[\s\S]*visit\s+│ 2001/);
  expect(await json('look', phone)).toMatchObject({ transactions: { pending: 1 }, tables: { site: 20 }, conflicts: 0 });
  expect(await json('look', phone, 'outbox')).toMatchObject([
    { state: 'pending', changes: [{ kind: 'update', table: 'hive', id: 'hive-001', columns: { strength: 1 } }] },
  ]);
  expect(await json('look', phone, '--sql', "SELECT strength FROM hive WHERE id = 'hive-001'")).toEqual([
    { strength: 1 },
  ]);
  expect(await readFile(phone), 'looking changes nothing').toEqual(before);

  const serving = koinon('serve', schemaFile, server, '--port', '0');
  const [, url] = await said(serving, /at (http:\S+)/);
  expect((await run('sync', schemaFile, phone, '--server', url as string)).output).toMatch(
    /Sent: 1 transaction applied/,
  );
  // The contents of files: on a device, and at the server.
  const teodor = join(folder, 'demo/teodor.db');
  const held = await json('look', teodor, 'files', '--contents', `${teodor}.files`);
  expect(held).toMatchObject({
    files: [
      { table: 'photo', row: 'photo-1', column: 'picture', file: { bytes: 318_971 }, content: 'fetched' },
      { column: 'preview', content: null },
    ],
    unheld: [],
  });
  expect((await run('look', teodor, 'files', '--contents', `${teodor}.files`)).output).toMatch(
    /brood-frame\.jpg .* here and on the server[\s\S]*brood-frame-small\.jpg .* not here/,
  );
  const checkFiles = () => run('check', schemaFile, '--database', server, '--files', `${server}.files`);
  expect((await checkFiles()).output).toContain('The contents of all 2 files are there, 340164 bytes.');
  const stored = join(`${server}.files`, 'stored');
  const [lost] = (await readdir(stored, { recursive: true })).filter((name) => /[0-9a-f]{40}$/.test(name));
  await rm(join(stored, lost as string));
  expect((await checkFiles()).output).toMatch(
    /warning .*1 file of 2 has no content here: photo photo-1 \((picture|preview)\)/,
  );
  const [latest] = (await json('look', phone, 'journal')) as unknown[];
  expect(latest).toMatchObject({ reason: 'by hand', up: { hive: { update: 1 } } });
  expect((await run('look', join(folder, 'demo/ilse.db'), 'journal')).output).toMatch(/visit: \d+ left/);
  expect(await json('sync', schemaFile, phone, '--server', url as string)).toMatchObject({ up: { applied: 0 } });
  serving.kill('SIGINT');
  await ended(serving);
  const { position } = (await json('look', phone)) as { position: number };
  const page = await json('changes', schemaFile, server, '--after', String(position - 1));
  expect(page).toMatchObject({ entries: [{ table: 'hive', id: 'hive-001', kind: 'update' }], more: false });
  const [met] = (await json('replicas', schemaFile, server)) as [{ id: string }];
  expect(await json('replicas', schemaFile, server, '--block', met.id)).toMatchObject([
    { id: met.id, isBlocked: true },
    {},
    {},
    { user: 'member-03' },
  ]);

  for (const [words, code, says] of [
    [['look', join(folder, 'none.db')], 1, /There is no file.*storage-refused/],
    [['look', phone, 'files', '--contents', join(folder, 'none')], 1, /There is no folder.*storage-refused/],
    [['check', '--files', folder], 1, /argument-invalid/],
    [['look', server], 1, /not a Koinon replica.*storage-foreign/],
    [['look', phone, '--sql', 'DELETE FROM hive'], 1, /query-writes/],
    [['look', phone, 'inbox'], 2, /Allowed choices/],
    [['sync', schemaFile, join(folder, 'none.db'), '--server', 'http://127.0.0.1:1'], 1, /There is no file/],
    [['sync', schemaFile, phone, '--server', 'http://127.0.0.1:1'], 1, /server-unreachable/],
    [['changes', schemaFile, server, '--after', 'x'], 1, /no position x/],
    [['replicas', schemaFile, server, '--block', 'nobody'], 1, /No replica nobody/],
  ] as const)
    expect(await run(...words)).toMatchObject({ code, output: expect.stringMatching(says) });
});

test('serve with a secret takes the tokens that token makes, by the rules and scopes that the module exports, and nothing else', async () => {
  const module = join(folder, 'ruled.ts');
  await writeFile(
    module,
    `import { schema, table, text } from '@koinon/core';
    export default schema({ note: table({ words: text(), whose: text({ filterable: true, default: 'runa' }) }) });
    export const scopes = { note: { read: (user) => ({ whose: user.id }) } };
    const complain = (user) => [{ column: 'words', message: 'Not that, ' + user.id + '.' }];
    export const rules = { note: { validate: ({ after }, { user }) => (after?.words === 'no' ? complain(user) : undefined) } };`,
  );
  process.env.KOINON_TOKEN_SECRET = 'a secret that is long enough for this';
  try {
    const child = koinon('serve', module, join(folder, 'ruled.db'), '--port', '0');
    const ending = ended(child);
    const [, url] = await said(child, /at (http:\S+)/);
    expect((await fetch(`${url}/v1/trash`)).status).toBe(401);
    const runa = (await run('token', 'runa')).output.trim();
    const { default: notes } = (await import(module)) as { default: Schema };
    const phone = await openReplica({ schema: notes, file: join(folder, 'ruled-phone.db') });
    await phone.insert('note', { id: 'a', words: 'no' } as never);
    await phone.insert('note', { id: 'b', words: 'yes' } as never);
    await phone.close();
    const file = join(folder, 'ruled-phone.db');
    const server = ['--server', url as string] as const;
    expect(await run('sync', module, file, ...server)).toMatchObject({
      code: 1,
      output: expect.stringContaining('(not-authenticated)'),
    });
    expect((await run('sync', module, file, ...server, '--token', runa)).output).toMatch(
      /1 transaction applied, 1 refused/,
    );
    const teodor = (await run('token', 'teodor', '--hours', '1')).output.trim();
    expect(await run('sync', module, file, ...server, '--token', teodor)).toMatchObject({
      code: 1,
      output: expect.stringContaining('(other-user)'),
    });
    expect((await run('look', file, 'outbox')).output).toContain('Not that, runa.');
    const office = await openNodeDriver({ file: join(folder, 'ruled.db') });
    office.exec("UPDATE note SET whose = 'teodor'; INSERT INTO note VALUES ('c', 'other', 'teodor')");
    office.close();
    expect((await run('sync', module, file, ...server, '--token', runa)).output).toMatch(
      /Received: 0 added, 0 changed, 0 deleted, 1 left/,
    );
    const others = join(folder, 'teodor-phone.db');
    await (await openReplica({ schema: notes, file: others })).close();
    expect((await run('sync', module, others, ...server, '--token', teodor)).output).toMatch(/Received: 2 added/);
    child.kill('SIGTERM');
    expect(await ending).toBe(0);
    expect((await run('replicas', module, join(folder, 'ruled.db'))).output).toContain('runa');
  } finally {
    delete process.env.KOINON_TOKEN_SECRET;
  }
  expect(await run('token', 'runa')).toMatchObject({ code: 1, output: expect.stringContaining('KOINON_TOKEN_SECRET') });
});
