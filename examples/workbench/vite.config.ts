import react from '@vitejs/plugin-react';
import { defaultClientConditions, defineConfig } from 'vite';

export default defineConfig({
  base: './',
  resolve: { conditions: ['koinon-source', ...defaultClientConditions] },
  build: { target: 'es2023' },
  plugins: [react()],
});
