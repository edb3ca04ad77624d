/** The user of this book, as the page's address says. */
const asked = () => new URLSearchParams(location.search);

/** A member of the cooperative, as the server's list of those who may sign in has him. */
export interface Member {
  readonly id: string;
  readonly name: string;
}

/** The member who is signed in; null for nobody. */
export const signedInMember = (): string | null => asked().get('member');

/** Tells whether this book has sites only, until they are taken along. */
export const isSparing = (): boolean => asked().has('sparing');

/** Tells whether there is a server to sign in at. */
export const canSignIn = (): boolean => asked().has('members');

/** Tells whether what was entered without an account goes along when somebody signs in. */
export const goesAlong = (): boolean => asked().has('blank');

/** Those who may sign in. */
export async function membersToChoose(): Promise<readonly Member[]> {
  const answer = await fetch(`${location.origin}/sign-in`);
  if (!answer.ok) throw new Error('The server does not say who may sign in; try again with a signal.');
  return (await answer.json()) as Member[];
}

/** Opens the book of a member, or the one of nobody. Each has a database of its own on this device. */
export function openBookOf(member: string | null): void {
  const next = asked();
  if (member === null) next.delete('member');
  else next.set('member', member);
  location.search = next.toString();
}
