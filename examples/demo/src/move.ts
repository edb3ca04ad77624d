import { KoinonError } from '@koinon/core';
import type { Narrator } from './narrator.ts';
import type { Office } from './office.ts';
import { type Phone, told } from './phone.ts';

/** Runa moves hives: only the office may, and it gives each move a number. The reply to the first one is lost. */
export async function tellMove(narrator: Narrator, runa: Phone, office: Office): Promise<void> {
  const { replica, signal } = runa;
  narrator.chapter('Runa asks the office to move two hives, without signal; the reply is lost');
  await signal.off();
  const [open] = await replica.rows({ from: 'site', where: { open: true }, order: 'name', limit: 1 });
  const [closed] = await replica.rows({ from: 'site', where: { open: false }, order: 'name', limit: 1 });
  if (open === undefined || closed === undefined)
    throw new KoinonError('no-such-row', 'The demo data has no such sites.');
  const move = async (hive: string, to: string, movement: string) => {
    const from = (await replica.get('hive', hive))?.site ?? to;
    return replica.invoke(
      'moveHive',
      { hive, to, movement },
      {
        async locally(data) {
          await data.update('hive', hive, { site: to });
          await data.insert('movement', { id: movement, hive, from, to, at: new Date().toISOString(), number: 0 });
        },
      },
    );
  };
  const [first, second] = [
    await move('hive-020', open.id, 'move-runa-1'),
    await move('hive-021', closed.id, 'move-runa-2'),
  ];
  narrator.say(`Runa asks for hive-020 to go to ${open.name}, and for hive-021 to go to ${closed.name}.`);
  narrator.say(`Her phone shows both where they are to be; ${(await replica.status()).pending} transactions wait.`);
  await signal.on();
  signal.losesReplies = true;
  await replica.sync().catch((error: KoinonError) => narrator.refusal(`Runa tries to sync: ${error.message}`));
  signal.losesReplies = false;
  const count = async () => (await office.ask('SELECT count(*) AS n FROM movement')).rows[0]?.n;
  narrator.say(`The office has moved hive-020: it has ${await count()} move. Runa’s phone does not know yet.`);
  narrator.say(`Runa: ${told(await replica.sync())}`);
  const { number } = await replica.resultOf(first);
  narrator.say(`The answer is the same as before: move number ${number}. The office still has ${await count()} move.`);
  const [refused] = (await replica.invocations()).filter(({ id }) => id === second.id);
  for (const { message } of refused?.problems ?? []) narrator.refusal(`hive-021 is refused: ${message}`);
  await replica.amend(second, { hive: 'hive-021', to: open.id, movement: 'move-runa-2' });
  narrator.say(`She names ${open.name} instead. Runa: ${told(await replica.sync())}`);
  narrator.say(`Move number ${(await replica.resultOf(second)).number}.`);
}
