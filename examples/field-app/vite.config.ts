import react from '@vitejs/plugin-react';
import { type Connect, defaultClientConditions, defineConfig, type Plugin } from 'vite';
import { VitePWA } from 'vite-plugin-pwa';
import { openWeather } from '../demo/src/weather.ts';

/** The weather service of somebody else, played beside the app under its own origin. */
function weather(): Plugin {
  const sites = Array.from({ length: 20 }, (_, n) => `site-${String(n + 1).padStart(2, '0')}`);
  const serve = async (middlewares: Connect.Server, ended: (close: () => void) => unknown) => {
    const service = await openWeather(sites);
    ended(() => void service.close());
    middlewares.use('/forecast', async ({ headers: { 'if-none-match': etag } }, response) => {
      const answer = await fetch(service.url, etag === undefined ? {} : { headers: { 'if-none-match': etag } });
      response.statusCode = answer.status;
      response.setHeader('content-type', 'application/json').setHeader('etag', answer.headers.get('etag') ?? '');
      response.end(await answer.text());
    });
  };
  return {
    name: 'weather of somebody else',
    configureServer: ({ middlewares, httpServer }) => serve(middlewares, (close) => httpServer?.once('close', close)),
    configurePreviewServer: ({ middlewares, httpServer }) =>
      serve(middlewares, (close) => httpServer.once('close', close)),
  };
}

export default defineConfig({
  base: './',
  resolve: { conditions: ['koinon-source', ...defaultClientConditions] },
  worker: { format: 'es' },
  // The server of the demo, under the app's own origin; `?server` in the address makes the app use it.
  server: { proxy: { '/v1': process.env.KOINON_SERVER ?? 'http://127.0.0.1:4280' } },
  preview: { proxy: { '/v1': process.env.KOINON_SERVER ?? 'http://127.0.0.1:4280' } },
  build: { target: 'es2023' },
  plugins: [
    react(),
    weather(),
    // The shell is kept by a service worker, so that the app opens without a network; the data is in the replica.
    VitePWA({
      registerType: 'autoUpdate',
      workbox: {
        globPatterns: ['**/*.{js,mjs,css,html,svg,wasm}'],
        maximumFileSizeToCacheInBytes: 5_000_000,
        clientsClaim: true,
        skipWaiting: true,
      },
      manifest: {
        name: 'Field book',
        short_name: 'Field book',
        description: 'Sites, hives and visits, with or without a signal.',
        theme_color: '#8a4b08',
        background_color: '#fffaf2',
        display: 'standalone',
        icons: [{ src: 'hive.svg', sizes: 'any', type: 'image/svg+xml' }],
      },
    }),
  ],
});
