import { callApp } from '../errors/app.ts';
import { errorFromProblems, KoinonError, type Problem, shown } from '../errors/errors.ts';
import { type SentenceName, type SentenceParameters, sentences } from '../errors/sentences.ts';
import { limits } from '../limits.ts';
import { type Place, problemOf, ruleText } from '../schema/message.ts';
import type { Labels } from '../schema/naming.ts';
import type { RowKey } from '../schema/row-key.ts';
import { type Column, isOperatedOn } from '../table/column.ts';
import { idOfKey } from '../table/composite-key.ts';
import type { AnyRow } from '../table/table.ts';
import { complaintProblem, type Table } from '../table/table.ts';
import { checkId, checkValue, type Refusal } from '../values/check.ts';
import { mostDigits, readDecimal } from '../values/decimal.ts';
import type { Change } from './change.ts';

/** The writer: a device may not give columns that only the server assigns. */
export type Writer = 'device' | 'server';

/**
 * Everything wrong with one change by the schema alone: names, presence, types, ranges, lists, operations.
 * Both sides ask this, so a device never queues what the same schema's server would refuse.
 */
export function changeProblems(table: Table, change: Change, writer: Writer = 'device'): Problem[] {
  const problems: Problem[] = [];
  const { table: tableName, id } = change;
  const labels = { tables: { [tableName]: table } };
  const add = (
    code: Problem['code'],
    column: string,
    sentence: SentenceName,
    parameters: SentenceParameters = {},
    rule?: string,
  ) => problems.push(problemOf(labels, code, { table: tableName, id, column }, sentence, parameters, rule));

  if (table.readOnly && writer === 'device') return [readOnlyProblem(table, change)];
  const wrongId = idProblem(labels, { table: tableName, id });
  if (wrongId) problems.push(wrongId);
  if (change.kind === 'delete') return problems;

  let mayBeLarge = false;
  for (const name in change.columns) {
    const value = change.columns[name];
    mayBeLarge ||= typeof value === 'string' ? value.length > 10_000 : typeof value === 'object' && value !== null;
    const column = Object.hasOwn(table.columns, name) ? table.columns[name] : undefined;
    if (!column) {
      const list = Object.keys(table.columns);
      add('unknown-column', name, 'unknown-column', { name: tableName, value: shown(name), list });
    } else if (change.kind === 'update' && table.key.includes(name)) {
      add('key-column', name, 'key-column-changed', { list: table.key });
    } else if (column.assigned && writer === 'device' && value !== null) {
      add('value-assigned', name, 'value-assigned');
    } else {
      const wrong = checkValue(column, value);
      if (wrong) problems.push(valueProblem(labels, { table: tableName, id, column: name }, value, wrong));
    }
  }
  const large = mayBeLarge ? tooLarge(change.columns) : undefined;
  if (large)
    add(
      'too-large',
      large.column,
      'change-too-large',
      { value: shown(change.columns[large.column]), limit: limits.changeBytes },
      `at most ${limits.changeBytes} bytes`,
    );
  if (change.kind === 'insert') {
    for (const [name, column] of table.entries)
      if (!column.optional && !Object.hasOwn(change.columns, name))
        add('value-missing', name, 'value-missing', {}, sentences.required);
    if (problems.length === 0 && table.key.length > 0 && idOfKey(table, change.columns) !== id)
      add('key-column', 'id', 'id-not-of-key', { value: shown(id), list: table.key });
    return problems;
  }
  for (const [name, operation] of Object.entries(change.operations)) {
    const column = Object.hasOwn(table.columns, name) ? table.columns[name] : undefined;
    const fits = 'add' in operation ? canBeAdded(column, operation.add) : column?.type === 'set' && areTexts(operation);
    if (!fits) add('value-type', name, 'operation-refused', { value: shown(operation) });
    else if (Object.hasOwn(change.columns, name)) add('value-type', name, 'operation-and-value');
  }
  return problems;
}

function readOnlyProblem(definition: Table, { table, id }: RowKey): Problem {
  return problemOf({ tables: { [table]: definition } }, 'table-read-only', { table, id }, 'table-read-only');
}

/** Refuses what a device asks of a table that only the server's side writes. @throws KoinonError `table-read-only`. */
export function refuseReadOnly(definition: Table, key: RowKey): void {
  if (definition.readOnly) throw errorFromProblems([readOnlyProblem(definition, key)]);
}

/** The problem of an id that no row can have; undefined for one that is good. */
export function idProblem(labels: Labels, { table, id }: RowKey): Problem | undefined {
  const wrong = checkId(id);
  if (wrong === undefined) return undefined;
  const parameters = { ...wrong.parameters, value: shown(id), rule: wrong.rule };
  return problemOf(labels, wrong.code, { table, id, column: 'id' }, 'id-refused', parameters, ruleText(wrong));
}

function valueProblem(labels: Labels, place: Place, value: unknown, wrong: Refusal): Problem {
  const parameters = { ...wrong.parameters, value: shown(value), rule: wrong.rule };
  return problemOf(labels, wrong.code, place, 'value-refused', parameters, ruleText(wrong));
}

/** The column that has most of what is too much for one change; undefined where it is not too much. */
function tooLarge(columns: Readonly<Record<string, unknown>>): { readonly column: string } | undefined {
  let [bytes, most, column] = [0, -1, ''];
  for (const name in columns) {
    const size = jsonBytes(columns[name]);
    bytes += size;
    if (size > most) [most, column] = [size, name];
  }
  return bytes > limits.changeBytes ? { column } : undefined;
}

/** About how many bytes a value has as JSON: for short texts what they have at most, which costs nothing to know. */
function jsonBytes(value: unknown): number {
  if (typeof value === 'string') return value.length < 100_000 ? value.length : textBytes(value);
  if (value instanceof Uint8Array) return Math.ceil(value.byteLength / 3) * 4;
  if (typeof value !== 'object' || value === null) return 8;
  let bytes = 2;
  for (const member of Object.values(value)) bytes += jsonBytes(member) + 4;
  return bytes;
}

/** The bytes of a text in UTF-8; it is not counted on where that is too much already. */
function textBytes(text: string): number {
  let bytes = 2;
  for (let i = 0; i < text.length && bytes <= limits.changeBytes; i++) {
    const unit = text.charCodeAt(i);
    // Half of a pair counts for two of its four bytes; a quotation mark or a line break is written with a backslash.
    const isPair = unit >= 0xd800 && unit < 0xe000;
    bytes += unit < 0x80 ? (unit < 0x20 || unit === 0x22 || unit === 0x5c ? 2 : 1) : unit < 0x800 || isPair ? 2 : 3;
  }
  return bytes;
}

/** An amount may be of more digits than the counter: only the sum is kept. */
function canBeAdded(column: Column | undefined, amount: unknown): boolean {
  if (column?.type === 'counter') return Number.isSafeInteger(amount);
  if (column?.type !== 'decimal-counter') return false;
  return 'text' in readDecimal(amount, { precision: mostDigits, scale: column.scale ?? 0 });
}

function areTexts(operation: { include: readonly unknown[]; exclude: readonly unknown[] }): boolean {
  const lists = [operation.include, operation.exclude];
  return lists.every(
    (list) => Array.isArray(list) && list.every((member) => checkId(member) === undefined || member === ''),
  );
}

/** The problems of a whole row: values that operations led out of range, and the table's own row check. */
export function rowProblems(tableName: string, table: Table, row: AnyRow): Problem[] {
  const problems: Problem[] = [];
  const labels = { tables: { [tableName]: table } };
  for (const [name, column] of table.entries) {
    if (!isOperatedOn(column)) continue;
    const wrong = checkValue(column, row[name]);
    if (wrong) problems.push(valueProblem(labels, { table: tableName, id: row.id, column: name }, row[name], wrong));
  }
  const { check } = table;
  const complaints = check === undefined ? [] : (callApp(() => check(row)) ?? []);
  if (!Array.isArray(complaints) || complaints.some((complaint) => typeof complaint?.message !== 'string'))
    throw new KoinonError(
      'schema-invalid',
      `The row check of ${tableName} returns a list of complaints, each with a message; it returned ${shown(complaints)}.`,
      { table: tableName, id: row.id, value: complaints },
    );
  return [...problems, ...complaints.map((complaint) => complaintProblem(tableName, row.id, complaint))];
}
