import { relative } from 'node:path';
import { defineConfig, type Plugin } from 'vite';

const PACKED = `${import.meta.dirname}/dist/packed`;

/** Modules of many small files, which hold no native code and look for no files. */
const MANY_FILES = [
  /^@orchard\//,
  /^@opentelemetry\//,
  /^@peculiar\//,
  /^@simplewebauthn\//,
  /^@chevrotain\//,
  'chevrotain',
  'drizzle-orm',
  'jose',
  'libphonenumber-js',
  'lodash-es',
  'tsyringe',
  'xmlbuilder',
  'yaml',
  'zod',
];

/** Files that a module finds by where it stands are found by where it stood. */
const findsFiles: Plugin = {
  name: 'finds-files',
  transform(code, id) {
    if (!id.startsWith(`${import.meta.dirname}/dist/`) || !code.includes('import.meta.url')) return null;
    return code.replaceAll('import.meta.url', `new URL('${relative(PACKED, id)}', import.meta.url).href`);
  },
};

// The program as one file.
export default defineConfig({
  root: import.meta.dirname,
  plugins: [findsFiles],
  ssr: { noExternal: MANY_FILES, target: 'node' },
  build: {
    ssr: 'dist/program.js',
    outDir: PACKED,
    emptyOutDir: true,
    target: 'node20',
    // What an error says of where it happened stays readable.
    minify: false,
    rollupOptions: { output: { format: 'es', entryFileNames: 'program.js' } },
  },
});
