import type { Schema } from '@koinon/core';

/** The tables of a schema, each behind those it refers to, so that rows can be put back in that order. */
export function tablesInOrder(schema: Schema): string[] {
  const ordered: string[] = [];
  const visit = (name: string, path: readonly string[]) => {
    if (ordered.includes(name) || path.includes(name)) return;
    for (const [, { target }] of schema.tables[name]?.entries ?? [])
      if (target !== undefined) visit(target, [...path, name]);
    ordered.push(name);
  };
  for (const name of Object.keys(schema.tables)) visit(name, []);
  return ordered;
}
