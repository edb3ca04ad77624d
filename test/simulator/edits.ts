import type { Device } from './device.ts';
import { withLine } from './ledger.ts';
import type { Chance, Performs, Stage } from './stage.ts';

// The edits of a person.

type Kind =
  | 'title'
  | 'own'
  | 'notes'
  | 'card'
  | 'mass'
  | 'mark'
  | 'frames'
  | 'visit'
  | 'refused visit'
  | 'inspect'
  | 'refused inspect'
  | 'three hives'
  | 'own between'
  | 'rotate ranks'
  | 'new hive'
  | 'delete hive'
  | 'delete visit'
  | 'words'
  | 'tool'
  | 'delete tool'
  | 'draft';

/** The number of the next act, and the text that it writes. */
function next({ ledger }: Stage): { readonly n: number; readonly token: string } {
  const n = ledger.acts.length;
  return { n, token: `#${n}` };
}

/** The weight of a hive, under the name that the app's version has for it. */
const loadOf = ({ version }: Device, value: number) =>
  ({ [version === 1 ? 'mass' : 'load']: value }) as { mass: number };

/** A visit, and its amount in the hive's total. */
async function visit(stage: Stage, device: Device, chance: Chance, words: string): Promise<void> {
  const { n } = next(stage);
  const hive = await stage.hiveOf(device, chance);
  const digit = hive && stage.ledger.digit('hive', hive.id, 'total');
  if (digit === undefined) return;
  const amount = 4 ** digit.k;
  await stage.act(device, { digit, visit: `v${n}` }, () =>
    device.replica.transaction(async (transaction) => {
      await transaction.insert('visit', { id: `v${n}`, hive: digit.id, amount, words });
      await transaction.add('hive', digit.id, 'total', amount);
    }),
  );
}

/** An inspection by the office, shown as it is expected. */
async function inspect(stage: Stage, device: Device, chance: Chance, words: string): Promise<void> {
  const { n, token } = next(stage);
  const hive = await stage.hiveOf(device, chance);
  const digit = hive && stage.ledger.digit('hive', hive.id, 'inspected');
  if (digit === undefined) return;
  const { id } = digit;
  const [amount, visit] = [4 ** digit.k, `v${n}`];
  const title = chance.b % 3 === 0 ? token : '';
  await stage.act(device, { digit, visit }, () =>
    device.replica.invoke(
      'inspect',
      { hive: id, visit, amount, words, title },
      {
        async locally(data) {
          if (title !== '') await data.update('hive', id, { title });
          await data.insert('visit', { id: visit, hive: id, amount, words });
          await data.add('hive', id, 'inspected', amount);
        },
      },
    ),
  );
}

async function someVisit(stage: Stage, { replica }: Device, b: number): Promise<string | undefined> {
  const visits = (await stage.until(replica.rows({ from: 'visit', order: ['id'] }))) ?? [];
  return visits[b % Math.max(1, visits.length)]?.id;
}

export const edits: Performs<Kind> = {
  async title(stage, device, chance) {
    const { token } = next(stage);
    const hive = await stage.hiveOf(device, chance);
    if (hive) await stage.act(device, {}, () => device.replica.update('hive', hive.id, { title: token }));
  },
  async own(stage, device, chance) {
    const { token } = next(stage);
    const hive = await stage.hiveOf(device, chance);
    if (hive)
      await stage.act(device, { own: { hive: hive.id, token } }, () =>
        device.replica.update('hive', hive.id, { [`own${device.index}`]: token } as never),
      );
  },
  async notes(stage, device, chance) {
    const { token } = next(stage);
    const hive = await stage.hiveOf(device, chance);
    if (hive === undefined) return;
    // Read where they are written: a sync may bring other lines between the two.
    await stage.act(device, { line: { hive: hive.id, token } }, () =>
      device.replica.transaction(async (transaction) => {
        const now = await transaction.get('hive', hive.id);
        await transaction.update('hive', hive.id, { notes: withLine(now?.notes ?? '', device.index, token) });
      }),
    );
  },
  async card(stage, device, chance) {
    const { token } = next(stage);
    const hive = await stage.hiveOf(device, chance);
    if (hive === undefined) return;
    await stage.act(device, {}, () =>
      device.replica.transaction(async (transaction) => {
        const now = await transaction.get('hive', hive.id);
        const card = { ...(now?.card as object | null), [`of${device.index}`]: token };
        await transaction.update('hive', hive.id, { card });
      }),
    );
  },
  async mass(stage, device, chance) {
    const { n } = next(stage);
    const hive = await stage.hiveOf(device, chance);
    if (hive) await stage.act(device, {}, () => device.replica.update('hive', hive.id, loadOf(device, n + 1)));
  },
  async mark(stage, device, chance) {
    const hive = await stage.hiveOf(device, chance);
    if (hive === undefined) return;
    const { b } = chance;
    const { replica } = device;
    await stage.act(device, {}, () =>
      b % 3
        ? replica.include('hive', hive.id, 'marks', `m${b % 4}`)
        : replica.exclude('hive', hive.id, 'marks', `m${b % 4}`),
    );
  },
  async frames(stage, device, chance) {
    const hive = await stage.hiveOf(device, chance);
    const digit = hive && stage.ledger.digit('hive', hive.id, 'frames');
    if (digit) await stage.act(device, { digit }, () => device.replica.add('hive', digit.id, 'frames', 4 ** digit.k));
  },
  visit: (stage, device, chance) => visit(stage, device, chance, `of ${next(stage).n}`),
  inspect: (stage, device, chance) => inspect(stage, device, chance, `of ${next(stage).n}`),
  'refused inspect': (stage, device, chance) => inspect(stage, device, chance, 'more than the office takes'),
  'refused visit': (stage, device, chance) => visit(stage, device, chance, 'more than the office takes'),
  async 'three hives'(stage, device) {
    const { token } = next(stage);
    const some = await stage.hivesOf(device);
    await stage.act(device, {}, () =>
      device.replica.transaction(async (transaction) => {
        for (const { id } of some.slice(0, 3)) await transaction.update('hive', id, { title: `${token} ${id}` });
      }),
    );
  },
  async 'own between'(stage, device) {
    const { token } = next(stage);
    const [first, second, third] = await stage.hivesOf(device);
    if (first === undefined || second === undefined || third === undefined) return;
    await stage.act(device, { own: { hive: second.id, token } }, () =>
      device.replica.transaction(async (transaction) => {
        await transaction.update('hive', first.id, { title: token });
        await transaction.update('hive', second.id, { [`own${device.index}`]: token } as never);
        await transaction.update('hive', third.id, { title: token });
      }),
    );
  },
  async 'rotate ranks'(stage, device, { b }) {
    const some = (await stage.hivesOf(device)).filter(({ rank }) => rank !== null).slice(0, 3);
    if (some.length < 2) return;
    const ranks = some.map(({ rank }) => rank as number);
    await stage.act(device, {}, () =>
      device.replica.transaction(async (transaction) => {
        for (const [i, { id }] of some.entries())
          await transaction.update('hive', id, { rank: ranks[(i + 1 + (b % 2)) % ranks.length] as number });
      }),
    );
  },
  async 'new hive'(stage, device, { b }) {
    const { token } = next(stage);
    const id = `n${device.index}-${stage.newNumber()}`;
    await stage.act(device, {}, () =>
      device.replica.transaction(async (transaction) => {
        await transaction.insert('hive', { id, site: 's', title: token });
        if (b % 2) await transaction.update('hive', id, { title: `${token}!` });
      }),
    );
  },
  async 'delete hive'(stage, device, chance) {
    const hive = await stage.hiveOf(device, chance);
    if (hive === undefined) return;
    stage.ledger.disturbed.add(hive.id);
    stage.ledger.deletedHives.add(hive.id);
    await stage.act(device, {}, () =>
      device.replica.transaction(async (transaction) => {
        for (const { id } of await transaction.rows({ from: 'visit', where: { hive: hive.id } })) {
          stage.ledger.deletedVisits.add(id);
          await transaction.delete('visit', id);
        }
        await transaction.delete('hive', hive.id);
      }),
    );
  },
  async 'delete visit'(stage, device, { b }) {
    const id = await someVisit(stage, device, b);
    if (id === undefined) return;
    stage.ledger.deletedVisits.add(id);
    await stage.act(device, {}, () => device.replica.delete('visit', id));
  },
  async words(stage, device, { b }) {
    const { token } = next(stage);
    const id = await someVisit(stage, device, b);
    if (id !== undefined) await stage.act(device, {}, () => device.replica.update('visit', id, { words: token }));
  },
  async tool(stage, device, { b }) {
    const { token } = next(stage);
    if ((await stage.until(device.replica.get('tool', 't0'))) === undefined) return;
    const digit = stage.ledger.digit('tool', 't0', 'used');
    if (digit === undefined) return;
    await stage.act(device, { digit }, () =>
      device.replica.transaction(async (transaction) => {
        if (b % 2) await transaction.update('tool', 't0', { name: token });
        await transaction.add('tool', 't0', 'used', 4 ** digit.k);
      }),
    );
  },
  async 'delete tool'(stage, device) {
    stage.ledger.disturbed.add('t0');
    await stage.act(device, {}, () => device.replica.delete('tool', 't0'));
  },
  async draft(stage, device, chance) {
    const { n, token } = next(stage);
    const hive = await stage.hiveOf(device, chance);
    if (hive === undefined) return;
    const draft = device.replica.draft();
    await stage.act(device, {}, async () => {
      await draft.update('hive', hive.id, { title: token, ...loadOf(device, n + 1) });
      if (chance.b % 3) await draft.commit();
      else draft.discard();
    });
  },
};
