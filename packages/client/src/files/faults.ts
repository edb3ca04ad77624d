import { KoinonError } from '@koinon/core';

// The errors that several parts of a device's files have in common.

export const gone = () =>
  new KoinonError('no-such-file', 'The content is not on this device, and no row here holds the file.');

export const cancelled = (cause: unknown) =>
  new KoinonError('cancelled', 'It was cancelled; nothing is lost.', { cause });

export const cutOff = (cause?: unknown) =>
  new KoinonError('server-unreachable', 'The connection was cut before the whole file had come; it goes on.', {
    cause,
  });

/** A failure of the device's storage under a code of ours; another error as it is. */
export function storageFault(error: unknown): unknown {
  const { code, name } = error as { code?: string; name?: string };
  if (code !== 'ENOSPC' && name !== 'QuotaExceededError') return error;
  return new KoinonError(
    'storage-full',
    'There is no room for the file; nothing of it was kept. Free some, and save it again.',
    { cause: error },
  );
}
