import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

// The page, and beside it the service worker under a name that does not change.
export default defineConfig({
  root: import.meta.dirname,
  plugins: [react()],
  build: {
    outDir: 'dist/site',
    emptyOutDir: true,
    target: 'es2022',
    modulePreload: false,
    rollupOptions: {
      input: { index: 'packages/hiker/index.html', worker: 'packages/hiker/src/worker.ts' },
      output: { entryFileNames: ({ name }) => (name === 'worker' ? 'worker.js' : 'assets/[name]-[hash].js') },
    },
  },
});
