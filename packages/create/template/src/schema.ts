import { counter, schema, table, text } from '@koinon/core';

export const apiary = schema({
  hive: table({ mark: text({ minimumLength: 1, maximumLength: 12, unique: true }), frames: counter({ minimum: 0 }) }),
});
