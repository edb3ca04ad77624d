/** A file of the origin's private file system, opened for synchronous reading and writing in a worker. */
export interface AccessHandle {
  read(into: Uint8Array, options: { readonly at: number }): number;
  write(from: Uint8Array, options: { readonly at: number }): number;
  truncate(size: number): void;
  flush(): void;
  getSize(): number;
  close(): void;
}

/** The part of a file handle that is used; TypeScript knows it in workers only. */
interface FileHandle {
  /** A browser that does not know `mode` refuses a second handle to the same file: then the file system itself is the fence. */
  createSyncAccessHandle(options?: { readonly mode: 'readwrite-unsafe' }): Promise<AccessHandle>;
}

const markSize = 36;

/**
 * Keeps two engines from writing one database. Whoever takes the database over writes its mark into a file beside it;
 * from then on every write of an earlier owner, woken from whatever held it up, is refused before it reaches the disk.
 */
export class Fence {
  private readonly mark: Uint8Array;
  private readonly file: AccessHandle;
  private readonly seen = new Uint8Array(markSize);
  private readonly guarded = new Set<AccessHandle>();
  /** Tells whether this owner has found out that another one took over. */
  isBroken = false;
  /** Tells whether the last write failed for want of room. */
  isFull = false;

  private constructor(mark: Uint8Array, file: AccessHandle) {
    this.mark = mark;
    this.file = file;
  }

  /** Takes the database in this folder: from now on no earlier owner can write it. @param mark a UUID of this owner's. */
  static async take(folder: FileSystemDirectoryHandle, mark: string): Promise<Fence> {
    const handle = (await folder.getFileHandle('fence', { create: true })) as unknown as FileHandle;
    const fence = new Fence(
      new TextEncoder().encode(mark),
      await handle.createSyncAccessHandle({ mode: 'readwrite-unsafe' }),
    );
    fence.file.write(fence.mark, { at: 0 });
    fence.file.flush();
    return fence;
  }

  /** Runs the work, which opens files; each is guarded by the fence. */
  async guarding<T>(work: () => Promise<T>): Promise<T> {
    // SQLite's pool asks the platform for its files itself: for that while the platform gives guarded ones.
    const platform = (globalThis as unknown as { readonly FileSystemFileHandle: { readonly prototype: FileHandle } })
      .FileSystemFileHandle.prototype;
    const open = platform.createSyncAccessHandle;
    const fence = this;
    platform.createSyncAccessHandle = async function (this: FileHandle) {
      return fence.guard(await open.call(this, { mode: 'readwrite-unsafe' }));
    };
    try {
      return await work();
    } finally {
      platform.createSyncAccessHandle = open;
    }
  }

  /** Lets go of all files at once, whatever state they are in. What is still written to them is refused. */
  abandon(): void {
    this.isBroken = true;
    for (const handle of this.guarded) handle.close();
    this.guarded.clear();
    this.file.close();
  }

  private guard(handle: AccessHandle): AccessHandle {
    this.guarded.add(handle);
    const write = <T>(work: () => T): T => {
      this.check();
      this.isFull = false;
      try {
        return work();
      } catch (error) {
        this.isFull = (error as Error).name === 'QuotaExceededError';
        throw error;
      }
    };
    return {
      read: (into, options) => handle.read(into, options),
      write: (from, options) => write(() => handle.write(from, options)),
      truncate: (size) => write(() => handle.truncate(size)),
      flush: () => handle.flush(),
      getSize: () => handle.getSize(),
      close: () => {
        this.guarded.delete(handle);
        handle.close();
      },
    };
  }

  /** Looks whether another owner has taken the database over. */
  isTaken(): boolean {
    if (!this.isBroken) {
      this.file.read(this.seen, { at: 0 });
      this.isBroken = this.seen.some((byte, i) => byte !== this.mark[i]);
    }
    return this.isBroken;
  }

  private check(): void {
    if (this.isTaken()) throw new Error('another tab has taken the database over');
  }
}
