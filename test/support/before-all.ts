import { rmSync } from 'node:fs';
import type { TestProject } from 'vitest/node';
import { findChromium, findFirefox } from './installed.ts';
import { freePort, postgresAddress, postgresFolder, postgresServer } from './postgres-server.ts';

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
  const folder = postgresFolder();
  const port = await freePort();
  const said: unknown[] = [];
  const flags = ['-c', 'max_connections=200', '-c', 'wal_level=logical'];
  const postgres = postgresServer(`${folder}/data`, port, flags, (message) => said.push(message));
  try {
    await postgres.initialise();
    await postgres.start();
  } catch (error) {
    throw new Error(`PostgreSQL did not start: ${String(error)}\n${said.join('\n')}`);
  }
  provide('postgresUrl', postgresAddress(port));
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
