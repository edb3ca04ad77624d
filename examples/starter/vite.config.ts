import { defaultClientConditions, defineConfig } from 'vite';

export default defineConfig({
  base: './',
  build: { target: 'es2023' },
  resolve: { conditions: ['koinon-source', ...defaultClientConditions] },
  worker: { format: 'es' },
});
