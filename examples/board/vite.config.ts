import react from '@vitejs/plugin-react';
import { defaultClientConditions, defineConfig } from 'vite';

export default defineConfig({
  base: './',
  resolve: { conditions: ['koinon-source', ...defaultClientConditions] },
  worker: { format: 'es' },
  build: { target: 'es2023', chunkSizeWarningLimit: 1_500 },
  plugins: [react()],
});
