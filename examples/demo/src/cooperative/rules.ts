import type { Rules } from '@koinon/server';
import type { cooperative } from './schema.ts';

/** The checks of the office when devices write: only it can do them, or it alone knows why. */
export const rules: Rules<typeof cooperative> = {
  hive: {
    validate: async ({ after, changed }, { get }) => {
      if (after === null || !changed.includes('site')) return undefined;
      const site = await get('site', after.site);
      if (site === undefined || site.open) return undefined;
      return [{ column: 'site', message: `${site.name} is closed; no hive is brought there.` }];
    },
  },
  visit: {
    validate: ({ after }) =>
      after?.weight != null && after.weight > 150
        ? [{ column: 'weight', message: `No hive weighs ${after.weight} kg; is there a digit too many?` }]
        : undefined,
  },
};
