import { defineConfig } from 'vite';

// One file for browsers and for anybody who downloads it: /client/orchard.js.
export default defineConfig({
  root: import.meta.dirname,
  build: { outDir: 'dist/browser', emptyOutDir: true, lib: { entry: 'src/index.ts', formats: ['es'], fileName: () => 'orchard.js' } },
});
