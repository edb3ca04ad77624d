import type { Column } from '../table/column.ts';

// Exact numbers as text. In one column all of them have the same digits after the point, so that equal numbers are equal texts.

/** The size of an exact number: its digits in all, and those after the point. */
export interface DecimalSize {
  readonly precision: number;
  readonly scale: number;
}

/** The most digits of a decimal column: as many as every database in use keeps exactly. */
export const mostDigits = 38;

/** Whole numbers of 64 bits, as SQL's BIGINT. */
export const bigIntegerSize: DecimalSize = { precision: 19, scale: 0 };

/** The size of a column whose values are exact numbers in text; undefined for all others. */
export function decimalSizeOf({ type, precision = mostDigits, scale = 0 }: Column): DecimalSize | undefined {
  if (type === 'big-integer') return bigIntegerSize;
  return type === 'decimal' || type === 'decimal-counter' ? { precision, scale } : undefined;
}

const form = /^(-?)0*(\d+)(?:\.(\d+))?$/;

/** The reason why a text is no number of a size. */
export type DecimalFault = 'form' | 'scale' | 'digits';

/** A number as its column keeps it, or the reason why it cannot be kept. */
export type ReadDecimal = { readonly text: string } | { readonly fault: DecimalFault };

/** Reads a number: zeros in front go, zeros at the end are added or taken away. */
export function readDecimal(value: unknown, { precision, scale }: DecimalSize): ReadDecimal {
  const found = typeof value === 'string' && value.length <= 200 ? form.exec(value) : null;
  if (found === null) return { fault: 'form' };
  const [, sign, whole, fraction = ''] = found as unknown as [string, string, string, string?];
  const digits = fraction.replace(/0+$/, '');
  if (digits.length > scale) return { fault: 'scale' };
  if (whole !== '0' && whole.length > precision - scale) return { fault: 'digits' };
  const isZero = whole === '0' && digits === '';
  return { text: `${isZero ? '' : sign}${whole}${scale === 0 ? '' : `.${digits.padEnd(scale, '0')}`}` };
}

/** A number with digits after the point, as a whole number of its last digit. */
function scaled(text: string): { readonly units: bigint; readonly scale: number } {
  const point = text.indexOf('.');
  const scale = point < 0 ? 0 : text.length - point - 1;
  return { units: BigInt(text.replace('.', '')), scale };
}

function textOf(units: bigint, scale: number): string {
  const digits = (units < 0n ? -units : units).toString().padStart(scale + 1, '0');
  const whole = digits.slice(0, digits.length - scale);
  return `${units < 0n ? '-' : ''}${whole}${scale === 0 ? '' : `.${digits.slice(-scale)}`}`;
}

function aligned(a: string, b: string): readonly [a: bigint, b: bigint, scale: number] {
  const [one, other] = [scaled(a), scaled(b)];
  const scale = Math.max(one.scale, other.scale);
  const of = ({ units, scale: own }: typeof one) => units * 10n ** BigInt(scale - own);
  return [of(one), of(other), scale];
}

/** The sum of two numbers, exactly. */
export function addDecimals(a: string, b: string): string {
  const [one, other, scale] = aligned(a, b);
  return textOf(one + other, scale);
}

/** Compares two numbers. */
export function compareDecimals(a: string, b: string): number {
  const [one, other] = aligned(a, b);
  return one < other ? -1 : one > other ? 1 : 0;
}

const width = ({ precision, scale }: DecimalSize) => Math.max(precision - scale, 1) + (scale === 0 ? 0 : scale + 1);

/** The letters that stand for digits of numbers below zero: the greater the digit, the smaller the letter. */
const inverted = 'jihgfedcba';

/**
 * A number as a text whose order is that of the numbers: digits of fixed width behind `0`; below zero, the digits turned around behind
 * `-`. SQLite has no exact numbers beside whole ones of 64 bits; this needs nothing of it but the comparison of texts.
 */
export function decimalKey(text: string, size: DecimalSize): string {
  const digits = (text.startsWith('-') ? text.slice(1) : text).padStart(width(size), '0');
  return text.startsWith('-')
    ? `-${digits.replace(/\d/g, (digit) => inverted[Number(digit)] as string)}`
    : `0${digits}`;
}

/** The number of such a text. */
export function decimalOfKey(key: string, size: DecimalSize): string {
  const digits = key.slice(1).replace(/[a-j]/g, (letter) => String(inverted.indexOf(letter)));
  const read = readDecimal(`${key.startsWith('-') ? '-' : ''}${digits}`, { ...size, precision: mostDigits + 1 });
  return 'text' in read ? read.text : digits;
}

/** The same text as an SQL expression over a column that holds such numbers. */
export function decimalKeySql(column: string, size: DecimalSize): string {
  const digits = width(size);
  const padded = (text: string) => `substr('${'0'.repeat(digits)}' || ${text}, -${digits})`;
  const turned = [...inverted].reduce(
    (sql, letter, digit) => `replace(${sql}, '${digit}', '${letter}')`,
    padded(`substr(${column}, 2)`),
  );
  return `(CASE WHEN ${column} LIKE '-%' THEN '-' || ${turned} ELSE '0' || ${padded(column)} END)`;
}

/** Digits that are summed as one whole number: with more than nine thousand million rows SQLite's sum would end. */
const chunkDigits = 9;

/**
 * The sum of such a column, as an SQL expression: its digits in groups, each group summed by itself, the sums behind each other.
 * {@link decimalOfSums} reads it.
 */
export function decimalSumSql(column: string, { precision, scale }: DecimalSize): string {
  const chunks = Math.ceil(Math.max(precision, scale + 1) / chunkDigits);
  const digits = `substr('${'0'.repeat(chunks * chunkDigits)}' || replace(replace(${column}, '-', ''), '.', ''), -${chunks * chunkDigits})`;
  const sums = Array.from(
    { length: chunks },
    (_, n) =>
      `sum(iif(${column} LIKE '-%', -1, 1) * CAST(substr(${digits}, ${n * chunkDigits + 1}, ${chunkDigits}) AS INTEGER))`,
  );
  return `(${sums.join(" || ' ' || ")})`;
}

/** The sum that an expression of {@link decimalSumSql} came to. */
export function decimalOfSums(sums: string, { scale }: DecimalSize): string {
  const units = sums.split(' ').reduce((sum, part) => sum * 10n ** BigInt(chunkDigits) + BigInt(part), 0n);
  return textOf(units, scale);
}
