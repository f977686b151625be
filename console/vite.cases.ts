// The console's pure parts as one script, for the tests that run them in a browser. Nothing of it is served.
import { defineConfig } from 'vite';

export default defineConfig({
  publicDir: false,
  build: {
    target: 'es2022',
    outDir: 'dist-cases',
    lib: { entry: 'tests/cases.ts', name: 'cases', formats: ['iife'], fileName: () => 'cases.js' },
  },
});
