import type { Handlers } from '@koinon/server';
import type { cooperative } from './schema.ts';

/** The office's part of what members ask for: a hive goes to a site that is open, and the move gets the next number. */
export const actions: Handlers<typeof cooperative> = {
  async moveHive({ hive, to, movement }, { get, insert, update, sequence, refuse, invokedAt }) {
    const [moved, site] = [await get('hive', hive), await get('site', to)];
    if (moved === undefined || site === undefined) return refuse('The hive or the site is not in the register.');
    if (!site.open) refuse([{ input: 'to', message: `${site.name} is closed; no hive is brought there.` }]);
    const number = await sequence('movement');
    await update('hive', hive, { site: to });
    await insert('movement', { id: movement, hive, from: moved.site, to, at: invokedAt, number });
    return { number };
  },
};
