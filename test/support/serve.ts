import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { build, preview } from 'vite';

/** A new folder, for whoever asks to remove it. */
export function scratch(): string {
  return mkdtempSync(join(tmpdir(), 'koinon-browser-'));
}

/** Builds an app with Vite; returns the folder with what came out. */
export async function buildApp(root: string): Promise<string> {
  const outDir = scratch();
  await build({ root, logLevel: 'error', build: { outDir, emptyOutDir: true } });
  return outDir;
}

/** Builds an app with Vite and serves what came out. */
export async function serveApp(root: string): Promise<{ readonly url: string; close(): Promise<void> }> {
  const outDir = await buildApp(root);
  const server = await preview({ root, logLevel: 'error', build: { outDir }, preview: { port: 0, host: '127.0.0.1' } });
  return {
    url: server.resolvedUrls?.local[0] as string,
    async close() {
      await server.close();
      rmSync(outDir, { recursive: true, force: true });
    },
  };
}
