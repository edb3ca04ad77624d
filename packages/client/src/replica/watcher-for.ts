import type { Sql } from '@koinon/core';
import { planQuery, planSummary } from '@koinon/core/internal';
import { readOnly, runReading } from '../database/read-only.ts';
import { type Engine, ReadSteps, settingsTable } from '../engine/steps.ts';
import { Commit } from '../live/commit.ts';
import type { Result } from '../live/result.ts';
import { Rerun, View } from '../live/view.ts';
import type { Watcher } from '../live/watchers.ts';
import { holdingsTable, statusTable } from '../rows/rows.ts';
import type { Followed } from './replica.ts';

/** The code that lists the outbox and the conflicts, once it is loaded: most pages follow none of it. */
let lists: typeof import('./report.ts').lists | undefined;

const isList = (kind: Followed): kind is keyof typeof import('./report.ts').lists =>
  kind === 'conflicts' || kind === 'rejections' || kind === 'outbox' || kind === 'invocations' || kind === 'holdings';

/** Loads what a watcher of this kind needs; undefined where nothing need be waited for. */
export function loadWatcher(kind: Followed): Promise<void> | undefined {
  if (!isList(kind) || lists !== undefined) return undefined;
  return import('./report.ts').then((report) => {
    lists = report.lists;
  });
}

/** The watcher that keeps a followed query, summary, setting or SQL text up: patched in place where that can be, else asked again. */
export function watcherFor(
  engine: Omit<Engine, 'commit'>,
  kind: Exclude<Followed, 'sync' | 'on server'>,
  request: unknown,
  deliver: (result: Result<unknown>) => void,
  fail: (error: unknown) => void,
): Watcher {
  const { schema, rows, database } = engine;
  if (kind === 'summary')
    return new Rerun([planSummary(schema, request).tableName], () => [...rows.summary(request)], deliver, fail);
  if (kind === 'setting') {
    const steps = new ReadSteps({ ...engine, commit: new Commit(() => false) });
    const read = () => [{ id: request, value: steps.setting(request as string) }];
    return new Rerun([settingsTable], read, deliver, fail);
  }
  if (kind === 'select') {
    const reading = readOnly(database, request as Sql);
    return new Rerun(reading.tables, () => runReading(database, reading), deliver, fail);
  }
  // A holding counts its rows.
  const counted = kind === 'holdings' ? [holdingsTable, ...Object.keys(schema.tables)] : [statusTable];
  if (isList(kind)) return new Rerun(counted, () => [...(lists?.[kind](engine) ?? [])], deliver, fail);
  const plan = planQuery(schema, request);
  if (plan.joins.length > 0) {
    const tables = [
      plan.tableName,
      ...plan.joins.map((join) =>
        join.kind === 'status' ? statusTable : join.kind === 'one' ? join.target : join.plan.tableName,
      ),
    ];
    return new Rerun([...new Set(tables)], () => rows.selectPlan(plan), deliver, fail);
  }
  // The view keeps whole rows, so that it can patch them; it shows the columns that were asked for.
  const whole = { ...plan, columns: Object.keys(plan.table.columns) };
  return new View(plan, () => rows.selectPlan(whole), deliver, fail);
}
