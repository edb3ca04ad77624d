import { mkdtemp, readFile, rm, symlink, writeFile } from 'node:fs/promises';
import { createServer as createHttpServer, type RequestListener } from 'node:http';
import { createServer as createSecureServer } from 'node:https';
import { type AddressInfo, connect as connectTo, createServer as createTcpServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openNodeDriver, openReplica } from '@koinon/client';
import { integer, schema, table, text } from '@koinon/core';
import { jwtAuthentication, type ServerOptions, type Store, sqliteStore, startServer } from '@koinon/server';
import { SignJWT } from 'jose';
import { pino } from 'pino';
import { afterAll, beforeAll, expect, onTestFinished, test, vi } from 'vitest';
import { checkCommand } from '../../packages/cli/src/commands/check.ts';
import { newDatabase, type Shell, storeKinds } from '../support/stores.ts';
import { never } from '../support/world.ts';

// The usual mistakes: each is made, and `koinon check` names it with what mends it.

const root = join(import.meta.dirname, '../..');
const apiary = schema({ hive: table({ mark: text(), mites: integer({ optional: true }) }) });
const secret = 'a text of at least thirty-two bytes';
let folder: string;
let module: string;
beforeAll(async () => {
  folder = await mkdtemp(join(tmpdir(), 'koinon-check-'));
  await symlink(join(root, 'node_modules'), join(folder, 'node_modules'));
  module = await written('schema', 'hive: table({ mark: text(), mites: integer({ optional: true }) })');
});
afterAll(() => rm(folder, { recursive: true, force: true }));

/** A schema module of these tables. */
async function written(name: string, tables: string, more = ''): Promise<string> {
  const file = join(folder, `${name}.ts`);
  await writeFile(
    file,
    `import { integer, schema, table, text } from '@koinon/core';\nexport default schema({ ${tables} }${more});\n`,
  );
  return file;
}

interface Told {
  readonly name: string;
  readonly level: string;
  readonly cure: string | null;
}

/** The names of what the command finds that is not as it should be. It runs in this process: a new one takes seconds. */
async function found(...words: string[]): Promise<string[]> {
  const printed = vi.spyOn(console, 'log').mockImplementation(() => undefined);
  process.exitCode = 0;
  try {
    await checkCommand()
      .exitOverride()
      .parseAsync([...words, '--json'], { from: 'user' });
    const findings = JSON.parse(printed.mock.calls.flat().join('\n')) as Told[];
    const wrong = findings.filter(({ level }) => level !== 'ok');
    expect(process.exitCode).toBe(findings.some(({ level }) => level === 'failure') ? 1 : 0);
    expect(wrong.filter(({ cure }) => cure === null)).toEqual([]);
    return wrong.map(({ name }) => name);
  } finally {
    process.exitCode = 0;
    printed.mockRestore();
  }
}

/** A server until the end of the test, with another program before it where one is given. */
async function served(options: Partial<ServerOptions> = {}, given?: Store): Promise<string> {
  const store = given ?? (await sqliteStore(apiary, join(folder, `${crypto.randomUUID()}.db`)));
  const server = await startServer({ store, port: 0, ...options });
  onTestFinished(() => server.close());
  return server.url;
}

async function answering(listener: RequestListener): Promise<string> {
  const server = createHttpServer(listener).listen(0, '127.0.0.1');
  await new Promise((done) => server.on('listening', done));
  onTestFinished(() => void server.close());
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
}

/** A proxy before a server that lets nothing pass but what it is asked for. */
const proxy = (to: string, passes: (method: string, path: string, length: number) => number) =>
  answering(async (request, response) => {
    const { method = 'GET', url = '/', headers } = request;
    const refused = passes(method, url, Number(headers['content-length'] ?? 0));
    request.resume();
    if (refused !== 200) return void response.writeHead(refused).end();
    const answer = await fetch(`${to}${url}`, {
      method,
      ...(method === 'POST' ? { body: '{}', headers: { 'content-type': 'application/json' } } : {}),
    });
    response.writeHead(answer.status, { 'content-type': answer.headers.get('content-type') ?? '' });
    response.end(await answer.text());
  });

const token = (claims: object, until = '1h') =>
  new SignJWT({ ...claims })
    .setProtectedHeader({ alg: 'HS256' })
    .setIssuer('office')
    .setAudience('hives')
    .setSubject('ida')
    .setExpirationTime(until)
    .sign(new TextEncoder().encode(secret));

async function triggerSql(shell: Shell): Promise<string> {
  const named = "SELECT sql FROM sqlite_schema WHERE name = 'koinon_hive_after_insert'";
  return (await shell.all<{ sql: string }>(named))[0]?.sql as string;
}

test.each(storeKinds)('%s: mistakes in a database', async (kind) => {
  const database = await newDatabase(kind, await mkdtemp(join(folder, 'database-')));
  onTestFinished(() => database.drop());
  const { address } = database;
  const check = (path = module) => found(path, '--database', address);
  expect(await check()).toEqual([kind === 'SQLite' ? 'database-missing' : 'not-prepared']);
  await (await database.open(apiary)).close();
  expect(await check()).toEqual([]);
  const shell = await database.shell();
  onTestFinished(() => shell.close());
  await shell.exec(kind === 'SQLite' ? 'DROP TRIGGER koinon_hive_after_insert' : 'DROP TRIGGER koinon_insert ON hive');
  expect(await check()).toEqual(['not-followed']);
  await (await database.open(apiary)).close();
  // As a bulk load leaves it that has the triggers off.
  const [off, on] =
    kind === 'PostgreSQL'
      ? ['ALTER TABLE hive DISABLE TRIGGER USER', 'ALTER TABLE hive ENABLE TRIGGER USER']
      : ['DROP TRIGGER koinon_hive_after_insert', await triggerSql(shell)];
  await shell.exec(off);
  await shell.exec("INSERT INTO hive VALUES ('loaded', 'B1', 3), ('too', 'B2', 3)");
  await shell.exec(on);
  expect(await check()).toEqual([]);
  expect(await found(module, '--database', address, '--rows')).toEqual(['rows-not-followed']);
  // A server looks at a sample of the rows when it starts, and says so in its log. On PostgreSQL it sees that triggers were switched off, and
  // sends all rows anew.
  const told: string[] = [];
  const logger = pino({ level: 'error' }, { write: (line: string) => void told.push(line) });
  await served({ logger }, await database.open(apiary));
  await vi.waitFor(() =>
    expect(told.join()).toMatch(
      kind === 'SQLite' ? /Rows of hive came \(2 of those that were looked at\)/ : /sent anew/,
    ),
  );
  if (kind === 'PostgreSQL') {
    const role = `koinon_reader_${process.pid}`;
    await shell.exec(
      `CREATE ROLE ${role} LOGIN PASSWORD 'reading'; GRANT USAGE ON SCHEMA koinon TO ${role}; GRANT SELECT ON ALL TABLES IN SCHEMA koinon TO ${role}; GRANT SELECT, UPDATE ON hive TO ${role}`,
    );
    const url = new URL(address);
    Object.assign(url, { username: role, password: 'reading' });
    expect(await found(module, '--database', url.href)).toEqual(['no-rights']);
    await shell.exec(`DROP OWNED BY ${role}; DROP ROLE ${role}`);
  }
  const store = await database.open(apiary);
  const replica = crypto.randomUUID();
  const contact = { replica, at: Date.now(), position: 1, schemaVersion: 1, rowsDown: 0, rowsUp: 0 };
  await store.write((writer) => writer.noteContacts([contact]));
  await store.write((writer) => writer.blockReplica(replica, true));
  await store.close();
  await (await database.open(apiary)).close();
  expect(await check()).toEqual(['blocked-devices']);
  await shell.exec(kind === 'SQLite' ? 'DELETE FROM koinon_replica' : 'DELETE FROM koinon.replica');
  expect(
    await check(
      await written(
        'more',
        'hive: table({ mark: text(), mites: integer({ optional: true }) }), site: table({ name: text() })',
      ),
    ),
  ).not.toEqual([]);
  const indexed = await written('indexed', 'box: table({ mark: text({ index: true }) })');
  await (await database.open(schema({ box: table({ mark: text({ index: true }) }) }))).close();
  expect(await check(indexed)).toEqual([]);
  await shell.exec('DROP INDEX box_by_mark');
  expect(await check(indexed)).toEqual(['layout-lacks']);
  await shell.exec('CREATE TABLE office_hive (no INTEGER PRIMARY KEY, paint TEXT, weight TEXT NOT NULL)');
  const mapped = await written(
    'mapped',
    'hive: table({ mark: text(), mites: integer({ optional: true }) })',
    ');\nexport const mapping = { hive: { name: "office_hive", columns: { id: "no", mark: "paint" } } };void (0',
  );
  // A column that is lacking is made on PostgreSQL, where a table that others made may get one.
  if (kind === 'SQLite') expect(await check(mapped)).toEqual(['does-not-fit']);
  await shell.exec('ALTER TABLE office_hive ADD COLUMN mites INTEGER');
  expect(await check(mapped)).toEqual(['table-differs', 'table-differs', 'not-followed']);
});

test('a database that a newer version has prepared', async () => {
  const file = join(folder, 'layout.db');
  await (await sqliteStore(apiary, file)).close();
  const driver = await openNodeDriver({ file });
  driver.exec("UPDATE koinon_meta SET value = '99' WHERE name = 'layout version'");
  driver.close();
  expect(await found(module, '--database', file)).toEqual(['newer-layout']);
});

test('a table that devices query, and that has no index', async () => {
  const plants = schema({ plant: table({ name: text() }, { home: 'server' }) });
  const database = await newDatabase('SQLite', folder);
  await (await database.open(plants)).close();
  const shell = await database.shell();
  await shell.exec(
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20001) INSERT INTO plant SELECT i, 'plant' FROM n",
  );
  await shell.close();
  const check = async (options: string) =>
    found(
      await written('plants', `plant: table({ name: text(${options}) }, { home: 'server' })`),
      '--database',
      join(folder, 'server.db'),
    );
  expect(await check('')).toEqual(['queries-without-index']);
  await (await database.open(schema({ plant: table({ name: text({ index: true }) }, { home: 'server' }) }))).close();
  expect(await check('{ index: true }')).toEqual([]);
});

test('mistakes about which database it is', async () => {
  const device = join(folder, 'device.db');
  await (await openReplica({ schema: apiary, file: device })).close();
  await writeFile(join(folder, 'text.db'), 'no database, but a text that is long enough to be looked at');
  expect(await found(module, '--database', device)).toEqual(['device-file']);
  expect(await found(module, '--database', join(folder, 'text.db'))).toEqual(['unreachable']);
  expect(await found(module, '--database', 'postgres://nobody@127.0.0.1:1/none')).toEqual(['unreachable']);
});

test('mistakes on the way to a server', async () => {
  const url = await served();
  expect(await found(module, '--server', url)).toEqual([]);
  const page = await answering((_request, response) =>
    response.setHeader('content-type', 'text/html').end('<p>Sign in to the network'),
  );
  const gone = await startServer({ store: await sqliteStore(apiary, join(folder, 'gone.db')), port: 0 });
  await gone.close();
  const free = gone.url;
  const cases: Readonly<Record<string, string>> = {
    'no-address': 'localhost:4280x',
    'nothing-listens': free,
    'no-such-host': 'http://no-host.invalid',
    'not-koinon': page,
  };
  for (const [name, address] of Object.entries(cases)) expect(await found('--server', address), name).toEqual([name]);
  const endless = await answering((_request, response) => {
    const more = () => {
      if (response.destroyed) return;
      response.write('"'.padEnd(65_536, 'x'));
      setImmediate(more);
    };
    more();
  });
  expect(await found('--server', endless)).toEqual(['not-koinon']);
  expect(await found('--server', `${url}/wrong/path`)).toEqual(['not-koinon']);
  expect(await found('--server', url, '--origin', 'https://elsewhere.example')).toEqual(['origin-refused']);
  expect(await found(await written('other', 'boat: table({ name: text() })'), '--server', url)).toEqual(['other-app']);
  expect(
    await found(
      await written('newer', 'hive: table({ mark: text() }), boat: table({ name: text() })'),
      '--server',
      url,
    ),
  ).toEqual(['tables-lacking']);
  expect(
    await found(await written('version', 'hive: table({ mark: text() })', ', { version: 2 }'), '--server', url),
  ).toEqual(['older-schema']);
  const small = await proxy(url, (_method, _path, length) => (length > 100_000 ? 413 : 200));
  expect(await found('--server', small)).toEqual(['not-compressed', 'no-live-connection', 'large-requests']);
  expect(await found('--server', url.replace('http:', 'https:'))).toEqual(['no-tls']);
  const silent = await answering((request) => request.socket.destroy());
  expect(await found('--server', silent)).toEqual(['no-answer']);
  const about = (await (await fetch(`${url}/v1/about`)).json()) as object;
  const newer = await answering((_request, response) => response.end(JSON.stringify({ ...about, protocol: 2 })));
  expect(await found('--server', newer)).toEqual(['other-protocol']);
  const late = await answering((_request, response) => {
    response.setHeader('date', new Date(Date.now() + 3_600_000).toUTCString());
    response.setHeader('content-encoding', 'identity').end(JSON.stringify(about));
  });
  expect(await found('--server', late)).toContain('clock');
  // An address of another machine, as far as its name tells.
  expect(await found('--server', small.replace('127.0.0.1', '0.0.0.0'))).toContain('not-encrypted');
  // One that cuts connections over which little is said.
  const { port } = new URL(url);
  const cutting = createTcpServer((socket) => {
    const on = connectTo(Number(port), '127.0.0.1');
    socket
      .on('error', () => undefined)
      .on('data', (bytes) => {
        if (/upgrade: websocket/i.test(bytes.toString('latin1'))) setTimeout(() => socket.destroy(), 500);
      });
    on.on('error', () => undefined);
    socket.pipe(on).pipe(socket);
  }).listen(0, '127.0.0.1');
  onTestFinished(() => void cutting.close());
  await new Promise((done) => cutting.on('listening', done));
  const cut = `http://127.0.0.1:${(cutting.address() as AddressInfo).port}`;
  expect(await found('--server', cut, '--live-for', '2')).toEqual(['connection-cut']);
  expect(await found('--server', url, '--live-for', '0.2')).toEqual([]);
  const [key, cert] = await Promise.all(
    ['key', 'certificate'].map((name) => readFile(join(import.meta.dirname, `../support/certificate/${name}.pem`))),
  );
  const secure = createSecureServer({ key, cert }, (_request, response) => response.end()).listen(0, '127.0.0.1');
  onTestFinished(() => void secure.close());
  await new Promise((done) => secure.on('listening', done));
  expect(await found('--server', `https://127.0.0.1:${(secure.address() as AddressInfo).port}`)).toEqual([
    'certificate',
  ]);
});

test('mistakes of who asks', async () => {
  const url = await served({
    authenticate: jwtAuthentication({ key: { secret }, issuer: 'office', audience: 'hives' }),
  });
  expect(await found('--server', url, '--token', await token({}))).toEqual([]);
  expect(await found('--server', url)).toEqual(['token-needed']);
  expect(await found('--server', url, '--token', 'nonsense')).toEqual(['token-refused']);
  expect(await found('--server', url, '--token', await token({}, '-1h'))).toEqual(['token-refused']);
});

test('mistakes of a device, and of which server it has', async () => {
  const authenticate = jwtAuthentication({ key: { secret }, issuer: 'office', audience: 'hives' });
  const [database, elsewhere] = [join(folder, 'one.db'), join(folder, 'two.db')];
  await (await sqliteStore(apiary, elsewhere)).close();
  const server = await startServer({ store: await sqliteStore(apiary, database), port: 0, authenticate });
  const { url } = server;
  const file = join(folder, 'phone.db');
  const ida = await token({});
  const replica = await openReplica({
    schema: apiary,
    file,
    server: url,
    token: () => ida,
    sync: { when: { open: false, change: false } },
  });
  await replica.insert('hive', { id: 'h', mark: 'A1' });
  await replica.sync();
  const { replicaId } = await replica.status();
  await replica.close();
  expect(await found(module, '--replica', file, '--database', database, '--token', ida)).toEqual([]);
  const compared = ['--replica', file, '--server', url, '--token', ida, '--rows'] as const;
  expect(await found(module, ...compared)).toEqual([]);
  const spoiling = await openNodeDriver({ file });
  spoiling.exec("UPDATE hive SET mark = 'spoilt'");
  expect(await found(module, ...compared)).toEqual(['rows-differ']);
  spoiling.exec("UPDATE hive SET mark = 'A1'");
  spoiling.close();
  const driver = await openNodeDriver({ file });
  driver.exec("UPDATE koinon_meta SET value = '2020-01-01T00:00:00.000Z' WHERE name = 'synced at'");
  driver.close();
  expect(await found(module, '--replica', file, '--database', elsewhere)).toEqual(['other-server']);
  await server.close();
  const other = await new SignJWT({})
    .setProtectedHeader({ alg: 'HS256' })
    .setSubject('runa')
    .sign(new TextEncoder().encode(secret));
  expect(await found(module, '--replica', file, '--database', database, '--token', other)).toEqual(['other-user']);
  const blocking = await sqliteStore(apiary, database, { mode: 'serve' });
  await blocking.write((writer) => writer.blockReplica(replicaId, true));
  await blocking.close();
  expect(await found(module, '--replica', file, '--database', database, '--token', ida)).toEqual([
    'blocked-devices',
    'blocked',
  ]);
  expect(await found('--replica', join(folder, 'none.db'))).toEqual(['storage-refused']);
  expect(await found('--replica', database)).toEqual(['storage-foreign']);
});

test('what waits on a device, and a file that is not as it should be', async () => {
  const [file, database] = [join(folder, 'waiting.db'), join(folder, 'waiting-server.db')];
  const store = await sqliteStore(apiary, database);
  const refuse = ({ after }: { after: { mark?: unknown } | null }) =>
    after?.mark === 'no' ? [{ column: 'mark', message: 'is not a mark' }] : undefined;
  const options = { rules: { hive: { validate: refuse } } } as Partial<ServerOptions>;
  const server = await startServer({ store, port: 0, ...options });
  const [device, other] = [
    await openReplica({ schema: apiary, file, server: server.url, sync: { when: never, live: false } }),
    await openReplica({ schema: apiary, server: server.url, sync: { when: never, live: false } }),
  ];
  await device.insert('hive', { id: 'h', mark: 'A1', mites: 1 });
  await device.sync();
  await other.sync();
  await other.update('hive', 'h', { mites: 2 });
  await other.sync();
  await device.update('hive', 'h', { mites: 3 });
  await device.insert('hive', { id: 'refused', mark: 'no' });
  await device.sync();
  await device.insert('hive', { id: 'waits', mark: 'A2' });
  await server.close();
  await expect(device.sync()).rejects.toMatchObject({ code: 'server-unreachable' });
  await device.close();
  await other.close();
  expect(await found(module, '--replica', file)).toEqual(['refused', 'conflicts', 'last-sync']);
  const driver = await openNodeDriver({ file });
  driver.exec("UPDATE koinon_outbox SET edited_at = 0 WHERE kind = 'transaction' AND state IS NULL");
  driver.exec("UPDATE koinon_outbox SET sequence = 99 WHERE row_id = 'waits'");
  driver.exec(`INSERT INTO koinon_meta VALUES ('source forecast', '{"checkedAt":0}'),
    ('holdings', '[{"name":"this week","from":"hive","where":null,"state":"leaving"}]')`);
  driver.close();
  expect(await found(module, '--replica', file)).toEqual([
    ...['unsent', 'refused', 'conflicts', 'last-sync', 'holding-leaving', 'source-old', 'unsound'],
  ]);
  const later = schema({ hive: table({ mark: text(), mites: integer({ optional: true }) }) }, { version: 2 });
  await (await openReplica({ schema: later, file: join(folder, 'later.db') })).close();
  expect(await found(module, '--replica', join(folder, 'later.db'))).toEqual(['newer-schema']);
});
