/**
 * Things by their names, and nothing else: a name that a peer sends, such as `constructor`, finds nothing that an object has from
 * its prototype.
 */
export function named<T extends Readonly<Record<string, unknown>>>(given: T): T {
  const own: T = Object.create(null);
  return Object.freeze(Object.assign(own, given));
}
