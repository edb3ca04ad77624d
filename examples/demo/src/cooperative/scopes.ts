import type { Scopes } from '@koinon/server';
import type { cooperative } from './schema.ts';

/**
 * The rights in the cooperative: members and sites are a public register; hives, visits, photos and harvests are shared by who
 * looks after the site; a tool list is its owner's alone.
 */
export const scopes: Scopes<typeof cooperative> = {
  member: { read: 'all', write: () => [{ message: 'The office keeps the list of members.' }] },
  site: {
    read: 'all',
    write: ({ before, after }, { user }) =>
      [before, after].every((site) => site === null || site.keeper === user?.id)
        ? undefined
        : [{ column: 'keeper', message: 'Only its keeper, or the office, changes a site.' }],
  },
  hive: {
    async read(user, { rows }) {
      const sites = await rows('site', { keeper: user?.id ?? '' });
      return { site: { in: sites.map(({ id }) => id) } };
    },
    // A hive may be given away: to a site that somebody else looks after.
    async write({ before, after }, { user, get }) {
      const site = await get('site', (before ?? after)?.site ?? '');
      return site?.keeper === user?.id ? undefined : [{ column: 'site', message: 'It would be at a site of another.' }];
    },
  },
  visit: { with: 'hive' },
  photo: { with: 'visit' },
  harvest: { with: 'hive' },
  movement: { with: 'hive' },
  plant: 'all',
  tool: { read: (user) => ({ member: user?.id ?? '' }) },
};
