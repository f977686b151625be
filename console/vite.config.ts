import tailwindcss from '@tailwindcss/vite';
import react from '@vitejs/plugin-react';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { target: 'es2022', sourcemap: false },
  test: { include: ['tests/*.test.ts'], setupFiles: ['tests/setup.ts'] },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
});
