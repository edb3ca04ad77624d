import { real, reference, schema, table } from '@koinon/core';
import { cooperative } from '@koinon/demo';

/** The cooperative's tables, and one that only the phone has: the weather at the sites, from a service of somebody else. */
export const field = schema(
  {
    ...cooperative.tables,
    forecast: table({ site: reference('site'), degrees: real(), wind: real({ minimum: 0 }) }, { home: 'device' }),
  },
  { actions: cooperative.actions },
);
