import { type DecimalSize, readDecimal } from '@koinon/core/internal';
import type { ColumnMapping } from '../store/mapping.ts';
import type { ChosenType } from './column-types.ts';
import type { PlannedColumn, PlannedTable, TakenColumn } from './plan.ts';

/** The package that a module takes the type of its mapping from: this one. */
const ownPackage = '@koinon/server';

/** The functions of a schema by the column's type. */
const functions: Readonly<Record<string, string>> = {
  ...{ 'one-of': 'oneOf', set: 'setOfText', 'big-integer': 'bigInteger', 'local-date-time': 'localDateTime' },
};

/** A schema module for the tables that are taken. @param from the database, as it may be printed. */
export function moduleText(tables: readonly PlannedTable[], from: string): string {
  const taken = tables.flatMap((each) => (each.taken ? [{ ...each, taken: each.taken }] : []));
  const used = new Set(['schema', 'table']);
  const described = taken.map(({ table, taken: { name, key, unique, assignedKey, readOnly }, columns, notes }) => {
    const lines = columns.flatMap((column) => columnLines(column, used));
    const comment = [...(table.comment ? [table.comment] : []), ...notes];
    const parts = key.map((column) => columns.find((each) => each.column.name === column)?.taken?.name);
    const given = {
      ...(key.length > 1 ? { key: parts } : {}),
      ...(assignedKey ? { assignedKey } : {}),
      ...(readOnly ? { readOnly } : {}),
      ...(unique.length > 0 ? { unique } : {}),
    };
    const options = Object.keys(given).length > 0 ? `, ${code(given)}` : '';
    return [
      ...comment.map((text) => `  // ${oneLine(text)}`),
      `  ${property(name)}: table({`,
      ...lines.map((line) => `    ${line}`),
      `  }${options}),`,
    ].join('\n');
  });
  const mapped = taken.map(({ table, taken: { name, key, softDelete }, columns }) => {
    const renamed = columns.flatMap(({ column, taken: it }): [string, string | ColumnMapping][] => {
      if (it === undefined) return [];
      const name = it.name === column.name ? undefined : column.name;
      // A column that only the database writes is not written in another form; what devices do not get of it is to be known all the same.
      const lossy = it.chosen.form?.lossy === true ? { lossy: true } : undefined;
      const form = it.isAssigned ? lossy : it.chosen.form;
      if (form !== undefined) return [[it.name, { ...(name === undefined ? {} : { name }), ...form }]];
      return name === undefined ? [] : [[it.name, name]];
    });
    const names = Object.fromEntries([
      ...(key.length > 1 || key[0] === 'id' ? [] : [['id', key[0] as string] as const]),
      ...renamed,
    ]);
    const parts = {
      name: table.relation,
      ...(Object.keys(names).length > 0 ? { columns: names } : {}),
      ...(softDelete === undefined ? {} : { softDelete }),
    };
    return `  ${property(name)}: ${code(parts)},`;
  });
  return `// Made by \`koinon adopt\` from ${oneLine(from)}. It is yours to change: labels, defaults, merge rules, tables and columns that are
// left out. \`koinon adopt --check\` compares it with the database.
import { ${[...used].sort().join(', ')} } from '@koinon/core';
import type { Mapping } from '${ownPackage}';

export default schema({
${described.join('\n')}
});

/** How the tables stand in the database. */
export const mapping = {
${mapped.join('\n')}
} satisfies Mapping;
`;
}

function columnLines({ column, verdict, why, taken }: PlannedColumn, used: Set<string>): string[] {
  const comment = column.comment === undefined ? [] : [`// ${oneLine(column.comment)}`];
  if (taken === undefined)
    return verdict === 'marks deletion'
      ? []
      : [`// ${oneLine(`${column.name} (${column.type}) is not taken: ${why}`)}`];
  const told = why === undefined ? [] : [`// ${oneLine(`${verdict === 'exact' ? '' : `${verdict}: `}${why}`)}`];
  return [...comment, ...told, `${property(taken.name)}: ${columnCode(taken, used)},`];
}

function columnCode({ chosen, target, isOptional, isAssigned, isUnique }: TakenColumn, used: Set<string>): string {
  const { type, oneOf, size, json, minimum, maximum, maximumLength } = chosen;
  const name = target === undefined ? (functions[type] ?? type) : 'reference';
  used.add(name);
  const bound = (limit: number | undefined) => (limit === undefined ? undefined : boundCode(chosen, limit));
  const bounds = target === undefined ? { minimum: bound(minimum), maximum: bound(maximum), maximumLength } : {};
  const options = Object.fromEntries(
    Object.entries({
      ...bounds,
      optional: isOptional && !isAssigned ? true : undefined,
      assigned: isAssigned ? true : undefined,
      unique: isUnique ? true : undefined,
    }).filter(([, value]) => value !== undefined),
  );
  const first = target !== undefined ? [code(target)] : type === 'one-of' ? [code(oneOf ?? [])] : [...digits(size)];
  const words = [...first, ...(Object.keys(options).length > 0 ? [code(options)] : [])];
  return `${name}${json === undefined || target !== undefined ? '' : `<${json}>`}(${words.join(', ')})`;
}

const digits = (size: DecimalSize | undefined) =>
  size === undefined ? [] : [String(size.precision), String(size.scale)];

/** A bound as the value that its column's function takes; none where the column has not so many digits. */
function boundCode({ type, size }: ChosenType, limit: number): number | string | bigint | undefined {
  if (type === 'big-integer') return BigInt(Math.trunc(limit));
  if (size === undefined) return limit;
  const read = readDecimal(String(limit), size);
  return 'text' in read ? read.text : undefined;
}

/** A value as a program has it. */
function code(value: unknown): string {
  if (typeof value === 'string')
    return `'${JSON.stringify(value).slice(1, -1).replaceAll('\\"', '"').replaceAll("'", "\\'")}'`;
  if (Array.isArray(value)) return `[${value.map(code).join(', ')}]`;
  if (typeof value === 'object' && value !== null)
    return `{ ${Object.entries(value)
      .map(([name, member]) => `${property(name)}: ${code(member)}`)
      .join(', ')} }`;
  return typeof value === 'bigint' ? `${value}n` : String(value);
}

function property(name: string): string {
  return /^[A-Za-z_$][\w$]*$/.test(name) && name !== '__proto__' ? name : code(name);
}

function oneLine(text: string): string {
  return text.replace(/[\r\n\u2028\u2029]+/g, ' ');
}
