/** The three sides of one column when both the device and the server have changed it. */
export interface Sides<Value> {
  /** As the server had it when the device changed it; null where the row was new on both sides. */
  readonly base: Value | null;
  readonly local: Value;
  readonly remote: Value;
}

/**
 * The fate of a column that both sides changed differently. `keep local` and `keep remote` take one side; `newest`
 * the one edited last; `by line` joins texts whose changed lines do not touch; `by member` joins JSON objects member by
 * member; `ask` leaves it to a person, and so does whatever a rule cannot decide. A function is given the three sides and
 * returns the value. It must come to the same value on every device.
 */
export type MergeRule<Value> =
  | 'keep local'
  | 'keep remote'
  | 'newest'
  | 'by line'
  | 'by member'
  | 'ask'
  | ((sides: Sides<Value>) => Value);

/** A rule of a column whose type is not known. */
export type AnyMergeRule = Extract<MergeRule<never>, string> | ((sides: Sides<never>) => unknown);

/**
 * The fate of a row that one side deleted while the other edited it: the `edit survives` (the default), the
 * `deletion wins`, or a person is to `ask`.
 */
export type DeletionRule = 'edit survives' | 'deletion wins' | 'ask';
