import { existsSync } from 'node:fs';
import { resolve } from 'node:path';
import { pathToFileURL } from 'node:url';
import { KoinonError, type Schema } from '@koinon/core';
import type { Effects, Handlers, Mapping, Rules, Scopes } from '@koinon/server';
import { tsImport } from 'tsx/esm/api';

/** The exports of a schema module. */
export interface SchemaModule {
  readonly schema: Schema;
  /** How tables that were there before stand in the database. */
  readonly mapping: Mapping;
  /** The rules by which the server checks, fills in and derives. */
  readonly rules: Rules<Schema>;
  /** The functions that carry out actions, and what those ask for. */
  readonly actions: Handlers<Schema>;
  readonly effects: Effects;
  /** The rights of users; undefined: everybody gets everything. */
  readonly scopes: Scopes<Schema> | undefined;
}

/**
 * Loads a schema from a module: its default export, or the one export that is a schema; and the mapping, rules, scopes, actions and effects
 * beside it, if it exports them. TypeScript modules are loaded as they are.
 */
export async function loadModule(path: string): Promise<SchemaModule> {
  const file = resolve(path);
  if (!existsSync(file)) throw new KoinonError('schema-invalid', `There is no schema module ${path}.`, { value: path });
  const loaded = await imported(path, file);
  // A TypeScript file outside an ES module package arrives as CommonJS: its exports are then one level further in.
  const inner =
    typeof loaded.default === 'object' && loaded.default !== null ? (loaded.default as Record<string, unknown>) : {};
  const defaults = [loaded.default, inner.default].filter(isSchema);
  const found = [
    ...new Set(defaults.length > 0 ? defaults : [...Object.values(loaded), ...Object.values(inner)].filter(isSchema)),
  ];
  const mapping = (loaded.mapping ?? inner.mapping ?? {}) as Mapping;
  const rules = (loaded.rules ?? inner.rules ?? {}) as Rules<Schema>;
  const actions = (loaded.actions ?? inner.actions ?? {}) as Handlers<Schema>;
  const effects = (loaded.effects ?? inner.effects ?? {}) as Effects;
  const scopes = (loaded.scopes ?? inner.scopes) as Scopes<Schema> | undefined;
  if (found.length === 1) return { schema: found[0] as Schema, mapping, rules, actions, effects, scopes };
  throw new KoinonError(
    'schema-invalid',
    `${path} exports ${found.length === 0 ? 'no schema' : `${found.length} schemas`}; export one, made by schema({ … }), as its default.`,
    { value: path },
  );
}

/** Loads the exports of a module. @throws KoinonError `schema-invalid` where it has a mistake, with the line where that is known. */
async function imported(path: string, file: string): Promise<Record<string, unknown>> {
  const address = pathToFileURL(file).href;
  try {
    return (await (/\.[cm]?tsx?$/.test(file) ? tsImport(address, import.meta.url) : import(address))) as Record<
      string,
      unknown
    >;
  } catch (error) {
    // The first line of the stack that is in the module itself; a mistake of syntax names it in its message.
    const stack = error instanceof Error ? (error.stack ?? '') : '';
    const line = stack.split('\n').find((frame) => frame.includes(file) || frame.includes(address));
    const at =
      line === undefined ? undefined : /:(\d+)(?::\d+)?/.exec(line.slice(line.indexOf(file) + file.length))?.[1];
    throw new KoinonError(
      'schema-invalid',
      `${path}${at ? `, line ${at}` : ''}: ${error instanceof Error ? error.message : String(error)}`,
      {
        value: path,
        cause: error,
      },
    );
  }
}

/** Loads a schema from a module. */
export async function loadSchema(path: string): Promise<Schema> {
  return (await loadModule(path)).schema;
}

function isSchema(value: unknown): value is Schema {
  return typeof value === 'object' && value !== null && 'tables' in value && 'version' in value;
}
