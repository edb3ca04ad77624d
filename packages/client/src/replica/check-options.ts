import { KoinonError, type Schema } from '@koinon/core';
import { argumentInvalid, callback, object, options, text, wholeNumber, word } from '../engine/arguments.ts';
import type { SyncOptions } from '../sync/state.ts';
import type { ReplicaOptions } from './open.ts';

const names = [
  'schema',
  'file',
  'prebuilt',
  'seed',
  'migrations',
  'server',
  'token',
  'only',
  'sync',
  'driver',
  'host',
  'durability',
  'stallLimit',
] as const satisfies readonly (keyof ReplicaOptions<Schema>)[];

const syncNames = [
  'direction',
  'upload',
  'requestBytes',
  'when',
  'live',
  'interval',
  'debounce',
  'minDelay',
  'maxDelay',
  'allow',
] as const satisfies readonly (keyof SyncOptions)[];

/**
 * Looks at how a replica is to be opened: what cannot be taken, contradicts another option, or would have no effect is told at
 * once, and nothing is opened.
 *
 * @throws KoinonError `argument-invalid`.
 */
export function checkOptions<S extends Schema>(given: ReplicaOptions<S>): void {
  if (given === undefined) throw argumentInvalid('options', given, 'an object with a schema');
  const { schema, server, ...rest } = options('options', given, names);
  const tables = schema === undefined ? undefined : object('schema', schema).tables;
  if (typeof tables !== 'object') throw argumentInvalid('schema', schema, 'what defineSchema has made');
  for (const name of ['file', 'prebuilt'] as const) if (rest[name] !== undefined) text(name, rest[name]);
  if (rest.file === '') throw argumentInvalid('file', rest.file, "a path, or ':memory:'");
  if (rest.seed !== undefined) callback('seed', rest.seed);
  if (rest.stallLimit !== undefined) wholeNumber('stallLimit', rest.stallLimit);
  if (rest.durability !== undefined) word('durability', rest.durability, ['process', 'power-loss']);
  if (typeof server !== 'string' && server !== undefined) object('server', server);
  if (rest.sync !== undefined && rest.sync !== 'automatic') checkSync(rest.sync);
  if (rest.token !== undefined) callback('token', rest.token);
  const without = (name: keyof typeof rest, other: string) => {
    if (rest[name] !== undefined) throw contradiction(name, other);
  };
  if (rest.driver !== undefined) {
    without('file', 'the database is that of `driver`; leave one of the two out');
    without('prebuilt', 'the database is that of `driver`; leave one of the two out');
  }
  if (server === undefined)
    for (const name of ['sync', 'token', 'only'] as const) without(name, 'there is no `server` to sync with; give one');
  if (typeof server === 'object')
    without('token', '`server` is a transport of your own, which asks for its own token; give it to that');
}

function checkSync(given: unknown): void {
  const { direction, upload, when, live, allow, ...numbers } = options('sync', given, syncNames);
  if (direction !== undefined) word('sync.direction', direction, ['both', 'push', 'pull']);
  if (upload !== undefined) word('sync.upload', upload, ['every step', 'latest state']);
  for (const [name, number] of Object.entries(numbers)) if (number !== undefined) wholeNumber(`sync.${name}`, number);
  for (const [name, isOn] of Object.entries(
    options('sync.when', when, ['open', 'change', 'online', 'visible', 'timer']),
  ))
    if (isOn !== undefined && typeof isOn !== 'boolean')
      throw argumentInvalid(`sync.when.${name}`, isOn, 'true or false');
  if (live !== undefined && typeof live !== 'boolean') options('sync.live', live, ['tables']);
  if (allow !== undefined) callback('sync.allow', allow);
}

function contradiction(name: string, why: string): KoinonError {
  return new KoinonError('argument-invalid', `The option ${name} has no effect: ${why}.`);
}
