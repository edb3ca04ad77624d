import type { WireChange } from '../change/change.ts';
import { KoinonError, shown } from '../errors/errors.ts';
import { isTimestamp } from '../values/check.ts';
import { utf8Length } from '../values/utf8.ts';
import type { JoinRequest, LivePush, Only, WaitRequest } from './live.ts';
import {
  type AppliedRequest,
  type FeedRequest,
  limits,
  type Part,
  type PullRequest,
  type PushRequest,
  type RestoreRequest,
  type TrashRequest,
  type UploadedTransaction,
} from './messages.ts';

const uuidForm = /^[0-9a-f]{8}-[0-9a-f]{4}-[1-8][0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/;

/** Reads a push request. @throws KoinonError `malformed-request` or `too-large`, naming the field. */
export function readPushRequest(body: unknown): PushRequest {
  const request = object(body, 'the request', ['replica', 'base', 'schemaVersion', 'transactions']);
  const replica = uuid(request.replica, 'replica');
  const base = request.base ?? null;
  if (base !== null && typeof base !== 'string') throw malformed('base', 'a cursor or null', base);
  const transactions = list(request.transactions, 'transactions', limits.transactions).map(readTransaction);
  const changes = transactions.reduce((sum, transaction) => sum + transaction.changes.length, 0);
  if (changes > limits.changes)
    throw new KoinonError('too-large', `A push takes ${limits.changes} changes at most, not ${changes}.`);
  const origins = transactions.reduce((sum, transaction) => sum + (transaction.origins?.length ?? 0), 0);
  if (origins > limits.origins)
    throw new KoinonError('too-large', `A push names ${limits.origins} origins at most, not ${origins}.`);
  const ids = new Set(transactions.map((transaction) => transaction.id));
  if (ids.size < transactions.length) throw malformed('transactions', 'each transaction once', 'a repeated id');
  return { replica, base, ...versionOf(request), transactions };
}

function readTransaction(given: unknown, index: number): UploadedTransaction {
  const at = `transactions[${index}]`;
  const transaction = object(given, at, ['id', 'origins', 'editedAt', 'dependsOn', 'changes', 'part']);
  if (!isTimestamp(transaction.editedAt))
    throw malformed(`${at}.editedAt`, 'an RFC 3339 time in UTC with milliseconds', transaction.editedAt);
  const changes = list(transaction.changes, `${at}.changes`, limits.changes).map((change, i) =>
    readChange(change, `${at}.changes[${i}]`),
  );
  if (changes.length === 0) throw malformed(`${at}.changes`, 'at least one change', transaction.changes);
  return {
    id: uuid(transaction.id, `${at}.id`),
    ...(transaction.origins === undefined ? {} : { origins: originsOf(transaction.origins, `${at}.origins`) }),
    editedAt: transaction.editedAt,
    dependsOn: list(transaction.dependsOn ?? [], `${at}.dependsOn`, limits.ownTransactions).map((id, i) =>
      uuid(id, `${at}.dependsOn[${i}]`),
    ),
    changes,
    ...(transaction.part === undefined ? {} : { part: readPart(transaction.part, `${at}.part`) }),
  };
}

function originsOf(given: unknown, at: string): string[] {
  const origins = list(given, at, limits.origins).map((id, i) => uuid(id, `${at}[${i}]`));
  if (origins.length === 0) throw malformed(at, 'at least one origin', given);
  return origins;
}

/** Reads a request for what was applied. @throws KoinonError `malformed-request`. */
export function readAppliedRequest(body: unknown): AppliedRequest {
  const { replica, origins } = object(body, 'the request', ['replica', 'origins']);
  return { replica: uuid(replica, 'replica'), origins: originsOf(origins, 'origins') };
}

function readPart(given: unknown, at: string): Part {
  const { index, count } = object(given, at, ['index', 'count']);
  if (!Number.isSafeInteger(count) || (count as number) < 2 || (count as number) > limits.parts)
    throw malformed(`${at}.count`, `a whole number from 2 to ${limits.parts}`, count);
  if (!Number.isSafeInteger(index) || (index as number) < 0 || (index as number) >= (count as number))
    throw malformed(`${at}.index`, 'a whole number from 0, below the count', index);
  return { index: index as number, count: count as number };
}

function readChange(given: unknown, at: string): WireChange {
  const change = object(given, at, ['kind', 'table', 'id', 'columns', 'operations']);
  const { kind, id } = change;
  if (kind !== 'insert' && kind !== 'update' && kind !== 'delete')
    throw malformed(`${at}.kind`, 'insert, update or delete', kind);
  const table = nameOf(change.table, `${at}.table`, 'a table name');
  if (typeof id !== 'string' || id.length > limits.idLength)
    throw malformed(`${at}.id`, `a row id of at most ${limits.idLength} characters`, id);
  if (kind === 'delete') return { kind, table, id };
  const columns = object(change.columns ?? {}, `${at}.columns`) as WireChange['columns'];
  for (const name in columns) nameOf(name, `${at}.columns`, 'a column name');
  if (change.operations === undefined) return { kind, table, id, ...(columns && { columns }) };
  if (kind === 'insert') throw malformed(`${at}.operations`, 'nothing for an insert', change.operations);
  const operations: Record<string, NonNullable<WireChange['operations']>[string]> = {};
  for (const [name, operation] of Object.entries(object(change.operations, `${at}.operations`)))
    operations[nameOf(name, `${at}.operations`, 'a column name')] = readOperation(
      operation,
      `${at}.operations.${name}`,
    );
  return { kind, table, id, ...(columns && { columns }), operations };
}

function readOperation(given: unknown, at: string) {
  const operation = object(given, at, ['add', 'include', 'exclude']);
  if ('add' in operation) {
    if (!Number.isSafeInteger(operation.add)) throw malformed(`${at}.add`, 'a whole number', operation.add);
    return { add: operation.add as number };
  }
  const texts = (part: 'include' | 'exclude') =>
    list(operation[part] ?? [], `${at}.${part}`, limits.changes).map((text) => {
      if (typeof text !== 'string') throw malformed(`${at}.${part}`, 'texts', text);
      return text;
    });
  return { include: texts('include'), exclude: texts('exclude') };
}

/** Reads a pull request. @throws KoinonError `malformed-request`. */
export function readPullRequest(body: unknown): PullRequest {
  const request = object(body ?? {}, 'the request', [
    'cursor',
    'limit',
    'unacknowledged',
    'replica',
    'schemaVersion',
    'tables',
    'columns',
    'where',
    'omitKnownBytes',
    'rowBlocks',
  ]);
  const { cursor, limit, omitKnownBytes, rowBlocks } = request;
  if (cursor !== undefined && typeof cursor !== 'string')
    throw malformed('cursor', 'a cursor this server gave', cursor);
  if (limit !== undefined && (!Number.isSafeInteger(limit) || (limit as number) < 1))
    throw malformed('limit', 'a whole number from 1', limit);
  if (omitKnownBytes !== undefined && typeof omitKnownBytes !== 'boolean')
    throw malformed('omitKnownBytes', 'true or false', omitKnownBytes);
  if (rowBlocks !== undefined && typeof rowBlocks !== 'boolean')
    throw malformed('rowBlocks', 'true or false', rowBlocks);
  return {
    ...(cursor === undefined ? {} : { cursor }),
    ...(rowBlocks === undefined ? {} : { rowBlocks }),
    ...(limit === undefined ? {} : { limit: limit as number }),
    ...(omitKnownBytes === undefined ? {} : { omitKnownBytes }),
    ...versionOf(request),
    ...onlyOf(request, ''),
    ...(request.replica === undefined ? {} : { replica: uuid(request.replica, 'replica') }),
    unacknowledged: list(request.unacknowledged ?? [], 'unacknowledged', limits.ownTransactions).map((id, i) =>
      uuid(id, `unacknowledged[${i}]`),
    ),
  };
}

/** Reads the parameters of a request for deleted rows. @throws KoinonError `malformed-request`. */
export function readTrashRequest(query: unknown): TrashRequest {
  const known = ['table', 'id', 'before', 'beforeTable', 'beforeId', 'limit'] as const;
  const request = object(query ?? {}, 'the query', known);
  const number = (name: 'before' | 'limit', most: number) => {
    const given = request[name];
    if (given === undefined) return undefined;
    const value = typeof given === 'string' && /^\d{1,16}$/.test(given) ? Number(given) : Number.NaN;
    if (!(value >= 1 && value <= most)) throw malformed(name, `a whole number from 1 to ${most}`, given);
    return value;
  };
  const word = (name: (typeof known)[number]) => {
    const given = request[name];
    return given === undefined ? undefined : textOf(given, name, 'one text');
  };
  const [table, id, beforeTable, beforeId] = [word('table'), word('id'), word('beforeTable'), word('beforeId')];
  const [position, limit] = [number('before', Number.MAX_SAFE_INTEGER), number('limit', limits.trashedRows)];
  const before =
    position === undefined || beforeTable === undefined || beforeId === undefined
      ? undefined
      : { position, table: beforeTable, id: beforeId };
  if (before === undefined && (position ?? beforeTable ?? beforeId) !== undefined)
    throw malformed('before', 'a row, with `beforeTable` and `beforeId` as well', request.before);
  return {
    ...(table !== undefined && { table }),
    ...(id !== undefined && { id }),
    ...(before && { before }),
    ...(limit !== undefined && { limit }),
  };
}

/** Reads what a replica says on its WebSocket; the body of a push is yet to be read. @throws KoinonError `malformed-request`. */
export function readLiveRequest(text: string): JoinRequest | LivePush {
  let said: unknown;
  try {
    said = JSON.parse(text);
  } catch {
    throw malformed('the message', 'JSON', text);
  }
  if (Object.hasOwn(object(said, 'the message'), 'push')) return livePush(said);
  const request = object(said, 'the message', [
    'join',
    'cursor',
    'replica',
    'token',
    'schemaVersion',
    'only',
    'tables',
  ]);
  if (!Number.isSafeInteger(request.join)) throw malformed('join', 'a whole number', request.join);
  if (typeof request.cursor !== 'string') throw malformed('cursor', 'a cursor this server gave', request.cursor);
  if (request.token !== undefined && typeof request.token !== 'string')
    throw malformed('token', 'a token', request.token);
  return {
    join: request.join as number,
    cursor: request.cursor,
    replica: uuid(request.replica, 'replica'),
    ...versionOf(request),
    ...(request.token === undefined ? {} : { token: request.token as string }),
    ...(request.tables === undefined ? {} : { tables: namesOf(request.tables, 'tables') }),
    ...onlyIn(request),
  };
}

function livePush(said: unknown): LivePush {
  const { push, request } = object(said, 'the message', ['push', 'request']);
  if (!Number.isSafeInteger(push)) throw malformed('push', 'a whole number', push);
  return { push: push as number, request };
}

/** Reads a request to be told of changes. @throws KoinonError `malformed-request`. */
export function readWaitRequest(body: unknown): WaitRequest {
  const request = object(body, 'the request', ['cursor', 'replica', 'schemaVersion', 'only']);
  if (typeof request.cursor !== 'string') throw malformed('cursor', 'a cursor this server gave', request.cursor);
  return {
    cursor: request.cursor,
    ...versionOf(request),
    ...onlyIn(request),
    ...(request.replica === undefined ? {} : { replica: uuid(request.replica, 'replica') }),
  };
}

/** Reads the parameters of a request for the feed. @throws KoinonError `malformed-request`. */
export function readFeedRequest(query: unknown): FeedRequest {
  const { after, follow, table, kind } = object(query ?? {}, 'the query', ['after', 'follow', 'table', 'kind']);
  if (after !== undefined && typeof after !== 'string') throw malformed('after', 'a position or a cursor', after);
  if (follow !== undefined && follow !== 'true' && follow !== 'false')
    throw malformed('follow', 'true or false', follow);
  if (table !== undefined && typeof table !== 'string') throw malformed('table', 'one table name', table);
  if (kind !== undefined && kind !== 'insert' && kind !== 'update' && kind !== 'delete' && kind !== 'leave')
    throw malformed('kind', 'insert, update, delete or leave', kind);
  return {
    ...(after === undefined ? {} : { after: /^\d{1,15}$/.test(after) ? Number(after) : after }),
    ...(follow === undefined ? {} : { follow: follow === 'true' }),
    ...(table === undefined ? {} : { table }),
    ...(kind === undefined ? {} : { kind }),
  };
}

/** Reads a request to bring a row back. @throws KoinonError `malformed-request`. */
export function readRestoreRequest(body: unknown): RestoreRequest {
  const { table, id } = object(body, 'the request', ['table', 'id']);
  return { table: textOf(table, 'table', 'a table name'), id: textOf(id, 'id', 'a row id') };
}

function namesOf(given: unknown, at: string): string[] {
  return list(given, at, 1_000).map((name, i) => nameOf(name, `${at}[${i}]`, 'a name'));
}

/** A name as databases have them. */
function nameOf(given: unknown, at: string, expected: string): string {
  const fits = typeof given === 'string' && given.length > 0 && given.length <= limits.nameBytes;
  if (fits && utf8Length(given) <= limits.nameBytes) return given;
  throw malformed(at, `${expected} of at most ${limits.nameBytes} bytes`, given);
}

function columnNames(given: unknown, at: string): Record<string, string[]> {
  return Object.fromEntries(
    Object.entries(object(given, at)).map(([table, names]) => [table, namesOf(names, `${at}.${table}`)]),
  );
}

/** Reads the part that a replica asks for of what its user may have. Whether the tables and columns are there is for the schema to say. */
function onlyOf({ tables, columns, where }: Record<string, unknown>, at: string): Only {
  return {
    ...(tables === undefined ? {} : { tables: namesOf(tables, `${at}tables`) }),
    ...(columns === undefined ? {} : { columns: columnNames(columns, `${at}columns`) }),
    ...(where === undefined ? {} : { where: object(where, `${at}where`) }),
  };
}

function onlyIn({ only }: Record<string, unknown>): Pick<JoinRequest, 'only'> {
  return only === undefined ? {} : { only: onlyOf(object(only, 'only', ['tables', 'columns', 'where']), 'only.') };
}

function versionOf({ schemaVersion }: Record<string, unknown>): { readonly schemaVersion?: number } {
  if (schemaVersion === undefined) return {};
  if (!Number.isSafeInteger(schemaVersion) || (schemaVersion as number) < 1)
    throw malformed('schemaVersion', 'a whole number from 1', schemaVersion);
  return { schemaVersion: schemaVersion as number };
}

function malformed(field: string, expected: string, given: unknown): KoinonError {
  return new KoinonError('malformed-request', `${field}: ${expected} is expected, not ${shown(given)}.`, {
    value: given,
  });
}

function object(given: unknown, at: string, fields?: readonly string[]): Record<string, unknown> {
  if (given === null || typeof given !== 'object' || Array.isArray(given)) throw malformed(at, 'an object', given);
  const unknown = fields && Object.keys(given).find((name) => !fields.includes(name));
  if (unknown !== undefined) throw malformed(at, `only ${fields?.join(', ')}`, unknown);
  return given as Record<string, unknown>;
}

function list(given: unknown, at: string, most: number): unknown[] {
  if (!Array.isArray(given)) throw malformed(at, 'a list', given);
  if (given.length > most)
    throw new KoinonError('too-large', `${at} takes ${most} entries at most, not ${given.length}.`);
  return given;
}

/** A text that a database can look for. */
function textOf(given: unknown, at: string, expected: string): string {
  if (typeof given !== 'string' || given.includes('\0')) throw malformed(at, expected, given);
  return given;
}

function uuid(given: unknown, at: string): string {
  if (typeof given !== 'string' || !uuidForm.test(given)) throw malformed(at, 'a UUID in lower case', given);
  return given;
}
