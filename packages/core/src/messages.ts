/** Messages in other languages: the sentences by name, two sets of them, and the function that makes a message of a problem. */
export { english } from './messages/english.ts';
export { german } from './messages/german.ts';
export { type MessageName, type Messages, messageIn, type Translatable } from './messages/message-in.ts';
export type { Labels, TableLabels } from './schema/naming.ts';
