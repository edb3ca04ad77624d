import type { FileState, Files, FileUrl, WaitingFile } from '@koinon/client/files';
import type { FileValue, Schema } from '@koinon/core';
import { useEffect, useState } from 'react';

/** A file as a component shows it. */
export interface ShownFile {
  /** The place of its content; undefined until it is known. */
  readonly state: FileState | undefined;
  /** The address of its content for an `<img>`; undefined until it is on this device. */
  readonly url: string | undefined;
  /** Why the content could not be opened; it is tried again when its place changes, and when the component shows it anew. */
  readonly error: Error | undefined;
}

const nothing: ShownFile = { state: undefined, url: undefined, error: undefined };

/** How a file is shown. */
export interface FileOptions {
  /** Tells whether the content is fetched and given an address. Default true; false for the place alone. */
  readonly open?: boolean;
}

/**
 * The place and the address of a file, kept up. The address is given back when the component does not show it any more.
 *
 * @param files undefined while they are being opened.
 * @param file undefined or null where the row holds none.
 * @example
 * const { url, state } = useFile(files, visit.photo)
 * return url ? <img src={url} /> : <p>{state?.at === 'awaited' ? 'On its way' : 'Not here yet'}</p>
 */
export function useFile<S extends Schema>(
  files: Files<S> | undefined,
  file: FileValue | null | undefined,
  { open = true }: FileOptions = {},
): ShownFile {
  const [shown, setShown] = useState(nothing);
  const id = file?.id;
  useEffect(() => {
    if (files === undefined || !file) return;
    let isOver = false;
    let address: FileUrl | undefined;
    let isOpening = false;
    /** The place of the content when it could not be opened. */
    let failedAt: FileState['at'] | undefined;
    const show = (part: Partial<ShownFile>) => {
      if (!isOver) setShown((before) => ({ ...before, ...part }));
    };
    const look = async () => {
      const [state] = await files.states([file]);
      show({ state });
      const isThere = state?.at === 'here' || state?.at === 'server';
      if (!open || !isThere || state.at === failedAt || address !== undefined || isOpening || isOver) return;
      isOpening = true;
      try {
        address = await files.fileUrl(file);
        if (isOver) address.release();
        else show({ url: address.url, error: undefined });
      } catch (error) {
        failedAt = state.at;
        show({ error: error as Error });
      } finally {
        isOpening = false;
      }
    };
    const update = () => void look().catch((error: Error) => show({ error }));
    update();
    const stop = files.subscribe(update);
    return () => {
      isOver = true;
      stop();
      address?.release();
      setShown(nothing);
    };
    // The same id is the same content.
  }, [files, id, open]);
  return shown;
}

/**
 * The contents that have yet to go to the server, kept up.
 *
 * @example
 * const waiting = useWaitingFiles(files)
 * <p>{waiting.length} photos not sent yet</p>
 */
export function useWaitingFiles<S extends Schema>(files: Files<S> | undefined): readonly WaitingFile[] {
  const [waiting, setWaiting] = useState<readonly WaitingFile[]>([]);
  useEffect(() => {
    if (files === undefined) return;
    let isOver = false;
    const look = () =>
      void files.waiting().then(
        (found) => isOver || setWaiting(found),
        () => undefined,
      );
    look();
    const stop = files.subscribe(look);
    return () => {
      isOver = true;
      stop();
    };
  }, [files]);
  return waiting;
}
