import { defineConfig } from 'vite';

// The command as one file: to look for a hundred modules takes longer than to run most commands.
export default defineConfig({
  root: import.meta.dirname,
  ssr: { noExternal: true, target: 'node' },
  build: {
    ssr: 'src/index.ts',
    outDir: 'dist/command',
    emptyOutDir: true,
    target: 'node20',
    minify: true,
    rollupOptions: { output: { format: 'cjs', entryFileNames: 'orchard.cjs' } },
  },
});
