import { defaultClientConditions, defineConfig } from 'vite';

export default defineConfig({
  base: './',
  build: { target: 'es2023', modulePreload: { polyfill: false } },
  resolve: { conditions: ['koinon-source', ...defaultClientConditions] },
  worker: { format: 'es' },
});
