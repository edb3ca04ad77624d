import type { FieldReplica } from './replica.ts';
import { field } from './schema.ts';

/** The requests of the page that frames the app. */
type Asked =
  | { readonly do: 'update'; readonly table: 'hive'; readonly id: string; readonly columns: object }
  | { readonly do: 'insert'; readonly table: 'visit'; readonly row: object }
  | { readonly do: 'go'; readonly path: string };

/** The tables whose rows are on the device. */
const tablesHere = (Object.keys(field.tables) as (keyof typeof field.tables)[]).filter(
  (name) => field.tables[name].home !== 'server',
);

const now = () => performance.timeOrigin + performance.now();

/** Changes at once that are told one by one. */
const few = 5;

/** Functions that write, whose time is told. */
const writes = new Set(['insert', 'update', 'delete', 'add', 'transaction', 'restore', 'resolve', 'undo']);

/**
 * Tells the page that frames the app how long each save took and when each change was on the screen's side of the engine,
 * and does what that page asks. For the workbench; the app itself does without.
 */
export function told(replica: FieldReplica): FieldReplica {
  const tell = (message: object) => parent.postMessage({ ...message, at: now() }, location.origin);
  for (const table of tablesHere)
    replica.listen(table, (events) => {
      // A first download brings thousands at once.
      if (events.length > few) tell({ what: 'shown', table, rows: events.length });
      else for (const { id, kind, origin } of events) tell({ what: 'shown', table, id, kind, origin });
    });
  replica.syncState().subscribe(({ rows: [state] }) => {
    if (state === undefined) return;
    const { phase, pending, conflicted, rejected } = state;
    tell({ what: 'state', phase, pending, conflicted, rejected });
  });
  const timed = new Proxy(replica, {
    get(target, name) {
      const member: unknown = Reflect.get(target, name, target);
      if (typeof member !== 'function') return member;
      const bound = (member as (...given: unknown[]) => unknown).bind(target);
      if (!writes.has(String(name))) return bound;
      return async (...given: unknown[]) => {
        const began = now();
        const result = await bound(...given);
        tell({ what: 'saved', took: now() - began });
        return result;
      };
    },
  });
  addEventListener('message', ({ source, origin, data }: MessageEvent<Asked>) => {
    if (source !== parent || origin !== location.origin) return;
    if (data.do === 'go') location.hash = data.path;
    const work =
      data.do === 'update'
        ? timed.update(data.table, data.id, data.columns)
        : data.do === 'insert'
          ? timed.insert(data.table, data.row as never)
          : Promise.resolve();
    work.catch((error: Error) => tell({ what: 'failed', message: error.message }));
  });
  return timed;
}
