/** The options of one column that a check constraint comes down to. */
export interface CheckedColumn {
  readonly column: string;
  readonly minimum?: number;
  readonly maximum?: number;
  readonly minimumLength?: number;
  readonly maximumLength?: number;
  readonly oneOf?: readonly string[];
  /** Only 0 and 1 are allowed: the way of databases without truth values. */
  readonly isTruth?: true;
}

const name = String.raw`(?:"((?:[^"]|"")+)"|([\p{L}_][\p{L}\p{N}_]*))`;
const comparison = new RegExp(`^(?:(char_length|length)\\s*)?${name}\\s*(<=|>=|<|>)\\s*'?(-?\\d+(?:\\.\\d+)?)'?$`, 'u');
const range = new RegExp(
  `^(?:(char_length|length)\\s*)?${name}\\s+BETWEEN\\s+'?(-?\\d+(?:\\.\\d+)?)'?\\s+AND\\s+'?(-?\\d+(?:\\.\\d+)?)'?$`,
  'iu',
);
const listed = new RegExp(`^${name}\\s*(?:=\\s*ANY\\s*ARRAY\\s*\\[|IN\\s*)(.+?)\\]?$`, 'iu');

/**
 * What a check constraint says of single columns; undefined where it says more than a schema can. Reads the forms that people write
 * most: a range, a length, a list of texts, and several of them joined by AND.
 */
export function columnsChecked(condition: string): readonly CheckedColumn[] | undefined {
  // Casts and brackets say nothing here; within a text they stay.
  const pieces = condition.split(/('(?:[^']|'')*')/);
  const bare = pieces
    .map((piece, n) =>
      n % 2 === 1
        ? piece
        : piece.replace(/::[a-z][a-z ]*(?:\(\d+(?:,\s*\d+)?\))?(?:\[\])?/gi, '').replace(/[()]/g, ' '),
    )
    .join('')
    .replace(/\s+/g, ' ')
    .trim();
  if (/\b(or|not|case|is)\b/i.test(bare.replace(/'(?:[^']|'')*'/g, ''))) return undefined;
  const whole = readOne(bare);
  const parts = whole === undefined ? bare.split(/\s+AND\s+/i).map((part) => readOne(part.trim())) : [whole];
  return parts.every((part) => part !== undefined) ? parts : undefined;
}

function readOne(text: string): CheckedColumn | undefined {
  const between = range.exec(text);
  if (between) {
    const [, measure, quoted, plain, from, to] = between;
    return { column: nameOf(quoted, plain), ...least(measure, Number(from)), ...most(measure, Number(to)) };
  }
  const compared = comparison.exec(text);
  if (compared) {
    const [, measure, quoted, plain, sign, limit] = compared;
    const value = Number(limit);
    // Beside whole numbers, what is just above a limit has no number of its own.
    if ((sign === '<' || sign === '>') && measure === undefined) return undefined;
    const bound = sign === '<' ? value - 1 : sign === '>' ? value + 1 : value;
    return { column: nameOf(quoted, plain), ...(sign?.startsWith('>') ? least(measure, bound) : most(measure, bound)) };
  }
  const [, quoted, plain, list] = listed.exec(text) ?? [];
  if (list === undefined) return undefined;
  const texts = [...list.matchAll(/'((?:[^']|'')*)'/g)].map(([, value]) => (value as string).replaceAll("''", "'"));
  const rest = list.replace(/'(?:[^']|'')*'/g, '').replace(/[\s,]/g, '');
  if (texts.length === 0 && (rest === '01' || rest === '10')) return { column: nameOf(quoted, plain), isTruth: true };
  return texts.length > 0 && rest === '' ? { column: nameOf(quoted, plain), oneOf: texts } : undefined;
}

const nameOf = (quoted: string | undefined, plain: string | undefined) => quoted?.replaceAll('""', '"') ?? plain ?? '';
const least = (measure: string | undefined, value: number) => (measure ? { minimumLength: value } : { minimum: value });
const most = (measure: string | undefined, value: number) => (measure ? { maximumLength: value } : { maximum: value });
