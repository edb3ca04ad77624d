// JSON of many parts: PostgreSQL gives a function 100 arguments at most, and a table may have more columns.

const mostArguments = 100;

/** An object of members, each written as `'name', value`. */
export function jsonbObject(members: readonly string[]): string {
  const parts = chunks(members, mostArguments / 2).map((some) => `jsonb_build_object(${some.join(', ')})`);
  return parts.length > 1 ? `(${parts.join(' || ')})` : (parts[0] as string);
}

/** An array of values as text. */
export function jsonArrayText(values: readonly string[]): string {
  const parts = chunks(values, mostArguments).map((some) => `json_build_array(${some.join(', ')})::text`);
  if (parts.length === 1) return parts[0] as string;
  // The brackets at both ends go; those within stay.
  const bare = parts.map((part) => `regexp_replace(${part}, '^\\[|\\]$', '', 'g')`);
  return `('[' || ${bare.join(" || ', ' || ")} || ']')`;
}

function chunks<Item>(items: readonly Item[], most: number): Item[][] {
  const made: Item[][] = [[]];
  for (const item of items) {
    const last = made.at(-1) as Item[];
    if (last.length < most) last.push(item);
    else made.push([item]);
  }
  return made;
}
