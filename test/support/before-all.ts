import { findChromium } from './chromium.ts';

/** Before any test file: several of them at once must not install a browser. */
export default function setup(): void {
  findChromium();
}
