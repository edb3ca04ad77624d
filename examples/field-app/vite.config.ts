import react from '@vitejs/plugin-react';
import { defaultClientConditions, defineConfig } from 'vite';
import { VitePWA } from 'vite-plugin-pwa';

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
