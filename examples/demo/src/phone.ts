import { openReplica, type Replica, type SyncReport } from '@koinon/client';
import { cooperative } from './cooperative/schema.ts';
import { Signal } from './signal.ts';

/** A phone with a signal that comes and goes. */
export interface Phone {
  readonly owner: string;
  readonly file: string;
  readonly replica: Replica<typeof cooperative>;
  readonly signal: Signal;
}

/** Opens a phone's app, with a signal of its own. */
export async function openPhone(owner: string, file: string, url: string): Promise<Phone> {
  const signal = await Signal.to(url);
  return { owner, file, signal, replica: await openReplica({ schema: cooperative, file, server: signal.url }) };
}

/** The folder of the contents of files beside a database. */
export const contentsOf = (file: string) => `${file}.files`;

/** The result of a sync, in words. */
export function told({ up, down }: SyncReport): string {
  const parts = [
    up.applied > 0 ? `sent ${up.applied} transaction${up.applied > 1 ? 's' : ''}` : 'sent nothing',
    ...(up.stale > 0 ? [`${up.stale} ${up.stale > 1 ? 'were' : 'was'} overtaken and merged`] : []),
    ...(up.rejected > 0 ? [`${up.rejected} ${up.rejected > 1 ? 'were' : 'was'} refused`] : []),
  ];
  const received = (['insert', 'update', 'delete'] as const).flatMap((kind) =>
    down[kind] > 0 ? [`${down[kind]} ${kind}${down[kind] > 1 ? 's' : ''}`] : [],
  );
  return `${parts.join(', ')}; received ${received.length > 0 ? received.join(', ') : 'nothing new'}.`;
}
