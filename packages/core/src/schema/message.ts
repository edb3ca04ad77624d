import { type ErrorCode, type Problem, shown } from '../errors/errors.ts';
import {
  type SentenceName,
  type SentenceParameters,
  type ServerSentenceName,
  sentences,
  serverSentences,
} from '../errors/sentences.ts';
import type { AnyRow } from '../table/table.ts';
import type { Refusal } from '../values/check.ts';
import { columnLabel, isUuid, type Labels, nameOfRow, sentence, tableLabel } from './naming.ts';

// The message of a problem: its sentence, with the labels of the schema and the parameters put in. The parts travel with the
// problem, so that an app can make the same message in another language.

/** The parts that are names of sentences themselves. */
const named = new Set(['rule', 'place', 'missing', 'says']);

/** A part of a sentence has parts itself, and those have none. */
const deepest = 2;

/** The row and column that a problem is about. */
export interface Place {
  readonly table?: string;
  readonly id?: string;
  readonly column?: string;
}

/** A problem with the message that its sentence makes of its parameters. */
export function problemOf(
  labels: Labels,
  code: ErrorCode,
  place: Place,
  name: SentenceName,
  parameters: SentenceParameters = {},
  rule?: string,
): Problem {
  return told(sentences, labels, code, place, name, parameters, rule);
}

/** The same with a sentence that a server alone says: a page leaves those out. */
export function serverProblemOf(
  labels: Labels,
  code: ErrorCode,
  place: Place,
  name: ServerSentenceName,
  parameters: SentenceParameters = {},
  rule?: string,
): Problem {
  return told({ ...sentences, ...serverSentences }, labels, code, place, name, parameters, rule);
}

function told(
  texts: Readonly<Record<string, string>>,
  labels: Labels,
  code: ErrorCode,
  place: Place,
  name: string,
  parameters: SentenceParameters,
  rule: string | undefined,
): Problem {
  const about = { ...place, sentence: name, parameters };
  const message = filled(about, name, texts, labels) ?? '';
  return { code, message, ...about, ...(rule === undefined ? {} : { rule }) };
}

/** The parameter by which a sentence names a row: the value that names it, where the row is at hand. */
export function rowParameters(labels: Labels, table: string, row: AnyRow | null | undefined): SentenceParameters {
  const name = nameOfRow(labels, table, row);
  return name === undefined ? {} : { name };
}

/** The rule that a value breaks, in words. */
export function ruleText({ rule, parameters }: Pick<Refusal, 'rule' | 'parameters'>): string {
  return filled({ parameters }, rule, sentences, { tables: {} }) ?? '';
}

/**
 * A sentence with everything put in; undefined where the texts lack it, or a part of it.
 *
 * @param texts sentences by name, in any language.
 */
export function filled(
  problem: Pick<Problem, 'table' | 'id' | 'column' | 'parameters'>,
  name: string,
  texts: Readonly<Record<string, string>>,
  labels: Labels,
  depth = 0,
): string | undefined {
  const template = Object.hasOwn(texts, name) ? texts[name] : undefined;
  // A server may name a sentence as a part of itself.
  if (template === undefined || depth > deepest) return undefined;
  const { table = '', id = '', column = '', parameters = {} } = problem;
  let isWhole = true;
  const part = (parameter: string): string | undefined => {
    if (parameter === 'column') return columnLabel(labels, table, column);
    if (parameter === 'table') return tableLabel(labels, table);
    if (parameter === 'other') return tableLabel(labels, String(parameters.other));
    if (parameter === 'row') {
      const value = parameters.name ?? (isUuid(id) ? undefined : shown(id));
      const row =
        value === undefined ? filled(problem, 'this-row', texts, labels) : `${tableLabel(labels, table)} ${value}`;
      return row && sentence(row);
    }
    const given = parameters[parameter];
    if (parameter === 'values' && Array.isArray(given)) {
      const columns = parameters.columns;
      return given
        .map((value, n) => `${columnLabel(labels, table, Array.isArray(columns) ? columns[n] : '')} ${value}`)
        .join(', ');
    }
    if (given === undefined) return undefined;
    if (named.has(parameter)) return filled(problem, String(given), texts, labels, depth + 1);
    return Array.isArray(given) ? given.join(', ') : String(given);
  };
  const text = template.replace(/\{(\w+)\}/g, (_, parameter: string) => {
    const value = part(parameter);
    if (value === undefined) isWhole = false;
    return value ?? '';
  });
  return isWhole ? text : undefined;
}
