/** A book of the app, as the page's address asks for it. */
export interface Book {
  /** The name of its database. */
  readonly name: string;
  /** The member who has signed in. */
  readonly member: string | null;
  /** The address of the server; undefined for a book without one. */
  readonly address: string | undefined;
}

/** The book that an address asks for: another one, one with a server, or that of a member. */
export function bookOf(asked: URLSearchParams): Book {
  const given = asked.get('name') ?? 'field book';
  const member = asked.get('member');
  const path = member === null ? asked.get('server') : asked.get('members');
  // An empty path is the page's own origin.
  const address = path === null ? undefined : `${location.origin}${path}`;
  // A book that was begun without an account keeps its name: who signs in takes it along.
  if (asked.has('blank')) return { name: given, member, address };
  const whose = member ?? (address === undefined ? undefined : 'shared');
  return { name: whose === undefined ? given : `${given}, ${whose}`, member, address };
}

/** A token for development, as the demo's server gives one to whoever asks; a real app would have a sign-in of its own. */
export async function tokenOf(member: string): Promise<string | undefined> {
  const answer = await fetch(`${location.origin}/sign-in`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ member }),
  });
  return answer.ok ? ((await answer.json()) as { token: string }).token : undefined;
}
