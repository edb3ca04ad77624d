import type { AnyRow, FileAsked, FileValue, Schema } from '@koinon/core';

/** The columns of a schema that hold files, by table. */
export function fileColumns({ tables }: Schema): ReadonlyMap<string, readonly string[]> {
  const found = Object.entries(tables).flatMap(([name, { entries }]): [string, readonly string[]][] => {
    const columns = entries.flatMap(([column, { type }]) => (type === 'file' ? [column] : []));
    return columns.length === 0 ? [] : [[name, columns]];
  });
  return new Map(found);
}

/** Which columns of which rows hold which files. */
export class Places {
  private readonly byFile = new Map<string, Map<string, { readonly place: FileAsked; readonly value: FileValue }>>();

  /** A row is another one than before; null where it is not there. Returns the ids of the files that this concerns. */
  changed(table: string, columns: readonly string[], before: AnyRow | null, after: AnyRow | null): readonly string[] {
    const concerned: string[] = [];
    for (const column of columns) {
      const [was, is] = [before?.[column], after?.[column]] as (FileValue | null | undefined)[];
      if (was?.id === is?.id && before?.id === after?.id) continue;
      if (was && before) {
        this.byFile.get(was.id)?.delete(keyOf(table, before.id, column));
        if (this.byFile.get(was.id)?.size === 0) this.byFile.delete(was.id);
        concerned.push(was.id);
      }
      if (is && after) {
        const places = this.byFile.get(is.id) ?? new Map();
        places.set(keyOf(table, after.id, column), { place: { id: is.id, table, row: after.id, column }, value: is });
        this.byFile.set(is.id, places);
        concerned.push(is.id);
      }
    }
    return concerned;
  }

  /** The places of a file. */
  of(id: string): readonly FileAsked[] {
    return [...(this.byFile.get(id)?.values() ?? [])].map(({ place }) => place);
  }

  /** All files that rows hold. */
  all(): readonly { readonly place: FileAsked; readonly value: FileValue }[] {
    return [...this.byFile.values()].flatMap((places) => [...places.values()].slice(0, 1));
  }
}

const keyOf = (table: string, row: string, column: string) => JSON.stringify([table, row, column]);
