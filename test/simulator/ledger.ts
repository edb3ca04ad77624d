/** A fault that a history has shown. */
export class Violation extends Error {}

/** A row of a table, as the database holds it. */
export type Row = Readonly<Record<string, unknown>> & { readonly id: string };

/** An act of a person on a device, and what the ledger knows of it. */
export interface Act {
  readonly n: number;
  readonly device: number;
  /** Names it in the outbox. */
  origin: string;
  /** A counter that it added to: it put one into the digit of that number, to the base of 4. */
  readonly digit?: {
    readonly table: 'hive' | 'tool';
    readonly id: string;
    readonly column: string;
    readonly k: number;
  };
  /** A row that it made together with what it added. */
  readonly visit?: string;
  /** A column that only its device writes, and what it put there. */
  readonly own?: Written;
  /** The device's line of the notes, and what it put there. */
  readonly line?: Written;
  /** Tells whether it was done to a hive that is deleted by then: it makes the hive again. */
  readonly remakes?: boolean;
  /** Taken back, and told that it was. */
  isRemoved: boolean;
  /** Nobody can say whether it is applied: its file was put back, or part of it was taken back. */
  isUnsure: boolean;
}

/** The values that were written into a hive. */
interface Written {
  readonly hive: string;
  readonly token: string;
}

/** The rows of the tables whose sums are kept. */
export interface Tables {
  readonly hive: readonly Row[];
  readonly visit: readonly Row[];
  readonly tool: readonly Row[];
}

const lineOf = (device: number, token: string) => `line ${device} ${token}`;

/** Notes in which a device's line says something else. */
export function withLine(notes: string, device: number, token: string): string {
  return notes
    .split('\n')
    .map((line) => (line.startsWith(`line ${device}`) ? lineOf(device, token) : line))
    .join('\n');
}

/** How often an act is counted that added 4 to the power of k. */
const timesIn = (sum: unknown, k: number) => Math.floor(Number(sum ?? 0) / 4 ** k) % 4;

/** The acts of each person, and what each was told. The rules that it checks are written without the library's code. */
export class Ledger {
  readonly acts: Act[] = [];
  /** Rows that were deleted, or of which a person decided which version stays: sums say nothing of them any more. */
  readonly disturbed = new Set<string>();
  /** Hives that somebody could not see for a time: what was typed into them lies over a row that is not known any more. */
  readonly hidden = new Set<string>();
  /** The server was put back: what devices were told to forget before they could offer it again is gone. */
  isRestored = false;
  /** The line that the office has put under the notes of a hive. */
  readonly officeLines = new Map<string, string>();
  /** Hives that a person has deleted. */
  readonly deletedHives = new Set<string>();
  readonly deletedVisits = new Set<string>();
  readonly decidedNotes = new Set<string>();
  /** Refused acts of which a part was taken back: nothing but a new edit sends the rest. */
  readonly frozen = new Set<Act>();
  private readonly digits = new Map<string, number>();

  /** A digit that no act has used; undefined where a counter has no more. */
  digit(table: 'hive' | 'tool', id: string, column: string): Act['digit'] {
    const key = `${id} ${column}`;
    const k = this.digits.get(key) ?? 0;
    if (k > 24) return undefined;
    this.digits.set(key, k + 1);
    return { table, id, column, k };
  }

  /** No act counts twice, and a visit is where its amount is. @param arriving hives that a device has asked for, and that are not whole yet. */
  checkSums(where: string, { hive, visit, tool }: Tables, arriving: ReadonlySet<string> = new Set()): void {
    const rows = new Map([...hive, ...tool].map((row) => [row.id, row]));
    const present = new Set(visit.map(({ id }) => id));
    for (const act of this.acts) {
      if (act.digit === undefined) continue;
      const row = rows.get(act.digit.id);
      if (row === undefined) continue;
      const times = timesIn(row[act.digit.column], act.digit.k);
      // A deleted row that comes back by an edit has what was counted before the server was put back, and each add is offered again.
      const isOffered = this.isRestored && this.disturbed.has(act.digit.id);
      if (times > 1 && !isOffered)
        throw new Violation(`${where}: act ${act.n} is counted ${times} times in ${act.digit.column}`);
      const isExempt = act.isUnsure || this.disturbed.has(act.digit.id) || this.deletedVisits.has(act.visit ?? '');
      if (act.visit === undefined || isExempt || arriving.has(act.digit.id)) continue;
      if (present.has(act.visit) !== (times === 1))
        throw new Violation(
          `${where}: the visit of act ${act.n} is ${present.has(act.visit) ? 'there' : 'missing'}, and its amount is counted ${times} times`,
        );
    }
  }

  /** An edit makes a hive again that was deleted by then: it is not refused for that. @param missing hives that were missing by a refusal. */
  checkMissing(missing: readonly (string | undefined)[], excepted: (device: number) => boolean): void {
    for (const { n, own, remakes, isUnsure, device } of this.acts)
      if (
        own &&
        remakes &&
        !isUnsure &&
        !excepted(device) &&
        missing.includes(own.hive) &&
        !this.deletedHives.has(own.hive)
      )
        throw new Violation(`act ${n} was done to ${own.hive}, which was deleted by then, and it was refused for that`);
  }

  /** On the server there is nothing of a refused act of which a part was taken back. */
  checkFrozen({ hive, visit }: Tables): void {
    const visits = new Set(visit.map(({ id }) => id));
    for (const act of this.frozen) {
      const sum = hive.find(({ id }) => id === act.digit?.id)?.[act.digit?.column ?? ''];
      const isCounted = act.digit !== undefined && timesIn(sum, act.digit.k) > 0;
      if ((act.visit !== undefined && visits.has(act.visit)) || isCounted)
        throw new Violation(
          `of act ${act.n}, which was refused, one half was taken back, and the other went up by itself`,
        );
    }
  }

  /** In the end everything that was done counts once, and what a person wrote last is there. @param excepted devices of which that cannot be said. */
  checkEnd({ hive, tool }: Tables, excepted: (device: number) => boolean): void {
    const rows = new Map([...hive, ...tool].map((row) => [row.id, row]));
    const lastOwn = new Map<string, Act>();
    const lastLine = new Map<string, Act>();
    for (const act of this.acts) {
      const { n, digit, own, line, isRemoved, isUnsure } = act;
      const isForgotten = digit !== undefined && this.isRestored && this.hidden.has(digit.id);
      if (digit && !this.disturbed.has(digit.id) && !isUnsure && !isForgotten) {
        const times = timesIn(rows.get(digit.id)?.[digit.column], digit.k);
        if (times !== (isRemoved ? 0 : 1))
          throw new Violation(
            `act ${n} (${digit.column} of ${digit.id}) was ${isRemoved ? 'taken back' : 'done'}, and counts ${times} times in the end`,
          );
      }
      if (isRemoved) continue;
      if (own) lastOwn.set(`${own.hive} ${act.device}`, act);
      if (line) lastLine.set(`${line.hive} ${act.device}`, act);
    }
    const isPast = ({ device }: Act, { hive }: Written) => {
      const others = this.acts.some((each) => (each.own?.hive === hive || each.line?.hive === hive) && each.isUnsure);
      return others || this.disturbed.has(hive) || this.hidden.has(hive) || excepted(device);
    };
    for (const { n, own, remakes, isRemoved, isUnsure, device } of this.acts) {
      const isPast = isRemoved || isUnsure || excepted(device) || this.deletedHives.has(own?.hive ?? '');
      if (own && remakes && !isPast && !rows.has(own.hive))
        throw new Violation(
          `act ${n} was done to ${own.hive}, which was deleted by then, and it is not there in the end`,
        );
    }
    for (const [id, line] of this.officeLines) {
      const row = this.disturbed.has(id) || this.decidedNotes.has(id) || this.isRestored ? undefined : rows.get(id);
      if (row && !String(row.notes).split('\n').includes(line))
        throw new Violation(
          `the office wrote ${line} into ${id}, whose notes are ${JSON.stringify(row.notes)} in the end`,
        );
    }
    for (const act of lastOwn.values())
      if (act.own && !isPast(act, act.own))
        checkLast(act, `own${act.device}`, act.own, rows, (held, token) => held === token);
    for (const act of lastLine.values())
      if (act.line && !isPast(act, act.line) && !this.decidedNotes.has(act.line.hive))
        checkLast(act, 'notes', act.line, rows, (held, token) =>
          String(held).split('\n').includes(lineOf(act.device, token)),
        );
  }
}

/** What a person wrote last into what nobody else writes is there. */
function checkLast(
  act: Act,
  column: string,
  { hive, token }: Written,
  rows: ReadonlyMap<string, Row>,
  isIn: (held: unknown, token: string) => boolean,
): void {
  const row = rows.get(hive);
  if (row === undefined || isIn(row[column], token)) return;
  throw new Violation(
    `act ${act.n} wrote ${token} into ${column} of ${hive}, which holds ${JSON.stringify(row[column])} in the end`,
  );
}
