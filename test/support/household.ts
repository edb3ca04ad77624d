import { connectReplica, hostReplica, openReplica, type Replica } from '@koinon/client';
import { bridge, openBrowser } from './browser.ts';
import { type Household, household } from './household-schema.ts';

export { type Household, household } from './household-schema.ts';

/** A new name for each database in the browser. */
let opened = 0;

/** The same replica in this thread, behind a port, and on the private files of a real browser: what one does the others must do. */
export const openings: Record<string, () => Promise<Replica<Household>>> = {
  'in this thread': () => openReplica({ schema: household }),
  async 'behind a port'() {
    const { port1, port2 } = new MessageChannel();
    void hostReplica(port1, () => openReplica({ schema: household }));
    return connectReplica(port2, household);
  },
  async 'in a browser'() {
    const { page } = await openBrowser();
    return connectReplica(await bridge(page, `household ${++opened}`), household);
  },
};

/** The same with a room, a shelf in it, and a lamp on that. */
export async function furnished(open: () => Promise<Replica<Household>>): Promise<Replica<Household>> {
  const replica = await open();
  await replica.insert('room', { id: 'r1', name: 'attic' });
  await replica.insert('my shelf', { id: 's1', room: 'r1' });
  await replica.insert('thing', { id: 't1', shelf: 's1', name: 'lamp' });
  return replica;
}
