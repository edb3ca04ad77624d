import { openFieldBook } from './open.ts';

// The database opens in its worker while the screen is still being loaded.
const opening = openFieldBook();
opening.catch(() => undefined);
const { draw } = await import('./screen.tsx');
draw(opening);
