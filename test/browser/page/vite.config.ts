import { defaultClientConditions, defineConfig } from 'vite';

export default defineConfig({
  resolve: { conditions: ['koinon-source', ...defaultClientConditions] },
  worker: { format: 'es' },
});
