import { KoinonError } from '@koinon/core';
import { errorFromProblems } from '@koinon/core/internal';
import { object, text } from '../engine/arguments.ts';
import type { LiveQuery } from '../live/result.ts';
import { syncOptions } from '../sync/options.ts';
import type { Invoked } from './data-api.ts';
import type { Invocation } from './lists.ts';

/** Why the server has refused a call; a server may have given no reason. */
function whyRefused({ id, problems: [first, ...others] }: Invocation): KoinonError {
  if (first !== undefined) return errorFromProblems([first, ...others]);
  return new KoinonError('action-refused', 'The server refused the action and gave no reason.', { value: id });
}

/** Waits for the result of a call of an action. */
export function waitForResult(
  invocations: LiveQuery<Invocation>,
  invoked: Invoked,
  given: { readonly signal?: AbortSignal },
): Promise<unknown> {
  const id = text('invoked.id', object('invoked', invoked).id);
  const { signal } = syncOptions(given);
  return new Promise((resolve, reject) => {
    const over = (end: () => void) => {
      signal?.removeEventListener('abort', cancel);
      // The first result may come before the function that ends the subscription.
      queueMicrotask(() => stop());
      end();
    };
    const cancel = () =>
      over(() => reject(new KoinonError('cancelled', 'Nobody waits for the result any more; the call goes on.')));
    const stop = invocations.subscribe(
      ({ rows, ready }) => {
        if (!ready) return;
        const call = rows.find((each) => each.id === id);
        if (call === undefined)
          over(() =>
            reject(
              new KoinonError(
                'no-such-invocation',
                'There is no such call of an action: it was taken back, or is too old.',
                { value: id },
              ),
            ),
          );
        else if (call.state === 'applied') over(() => resolve(call.result));
        else if (call.state === 'refused') over(() => reject(whyRefused(call)));
      },
      (error) => over(() => reject(error)),
      () =>
        over(() =>
          reject(new KoinonError('replica-closed', 'The replica was closed before the result came; the call goes on.')),
        ),
    );
    signal?.addEventListener('abort', cancel);
    if (signal?.aborted) cancel();
  });
}
