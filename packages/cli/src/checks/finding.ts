/** One thing that a check has found. */
export interface Finding {
  readonly part: 'database' | 'server' | 'replica' | 'together';
  /** A stable name, for programs. */
  readonly name: string;
  readonly level: 'ok' | 'warning' | 'failure';
  readonly message: string;
  /** The cure; null where nothing has to be done. */
  readonly cure: string | null;
}

/** Makes findings of one part. */
export function findingsOf(part: Finding['part']) {
  const make =
    (level: Finding['level']) =>
    (name: string, message: string, cure: string | null = null): Finding => ({ part, name, level, message, cure });
  return { ok: make('ok'), warning: make('warning'), failure: make('failure') };
}

/** A number with its noun. */
export function counted(count: number, noun: string): string {
  return `${count} ${noun}${count === 1 ? '' : 's'}`;
}
