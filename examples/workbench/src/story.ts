import { ask, devices, runSql, setSignal } from './happenings.ts';

/** A step of the story. */
export interface Step {
  readonly name: string;
  readonly says: string;
  readonly run: () => Promise<void>;
}

const pause = (milliseconds: number) => new Promise((resolve) => setTimeout(resolve, milliseconds));
const hive = 'hive-001';
const look = () => {
  for (const device of devices) ask(device, { do: 'go', path: `#/hive/${hive}` });
};
const update = (device: (typeof devices)[number], columns: object) =>
  ask(device, { do: 'update', table: 'hive', id: hive, columns });
let count = 0;

/** The story, step by step; each can be taken any time, and again. */
export const steps: readonly Step[] = [
  {
    name: '1 Both see it',
    says: 'Runa writes a note; Teodor’s screen has it in moments.',
    async run() {
      look();
      update('runa', { notes: `queen laying well (${++count})` });
    },
  },
  {
    name: '2 One apart',
    says: 'Teodor loses his signal, edits, and comes back: another column, so both edits stand.',
    async run() {
      look();
      await setSignal('teodor', false);
      update('teodor', { strength: 1 + (++count % 9) });
      update('runa', { notes: `syrup given (${count})` });
      await pause(1_500);
      await setSignal('teodor', true);
    },
  },
  {
    name: '3 Both apart',
    says: 'Both without a signal change the same two columns: the queen goes by the newest edit, the strength is asked about.',
    async run() {
      look();
      for (const device of devices) await setSignal(device, false);
      const strength = 1 + (++count % 8);
      update('teodor', { strength, queen: 'missing' });
      await pause(300);
      update('runa', { strength: strength + 1, queen: count % 2 ? 'unmarked' : 'marked' });
      await pause(900);
      for (const device of devices) await setSignal(device, true);
    },
  },
  {
    name: '4 Refused',
    says: 'Runa types 315 kg. The office’s rules refuse it; it waits for her with the reason.',
    async run() {
      ask('runa', {
        do: 'insert',
        table: 'visit',
        row: {
          hive: 'hive-002',
          member: 'member-01',
          at: new Date().toISOString(),
          queenSeen: true,
          brood: 'even',
          mites: 2,
          weight: 315,
        },
      });
      ask('runa', { do: 'go', path: '#/hive/hive-002' });
    },
  },
  {
    name: '5 The office',
    says: 'The office changes its own table in plain SQL; both devices show it.',
    async run() {
      look();
      await runSql(`UPDATE hive SET notes = 'checked by the office (${++count})' WHERE id = '${hive}'`);
    },
  },
];
