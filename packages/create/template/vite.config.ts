import { defineConfig } from 'vite';

const target = `http://127.0.0.1:${process.env.PORT ?? 4280}`;
export default defineConfig({
  server: { proxy: { '/v1': { target, ws: true } } },
  worker: { format: 'es' },
});
