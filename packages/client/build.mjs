// Builds what browsers load: modules in full and minified, one classic script with everything, and the service worker; and says
// of each how large it is and its hash. Beside them, the package for npm, which needs no other package of ours.
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { build } from 'vite';
import { collectTypes } from './collectTypes.mjs';

const root = import.meta.dirname;
const outDir = join(root, 'dist/browser');
const { version } = JSON.parse(readFileSync(join(root, 'package.json'), 'utf8'));
const packageDir = join(root, 'dist/package');
for (const folder of [outDir, packageDir]) rmSync(folder, { recursive: true, force: true });

const common = { configFile: false, root, logLevel: 'warn' };
const output = (rollupOptions, build = {}) => ({
  outDir,
  reportCompressedSize: false,
  emptyOutDir: false,
  sourcemap: true,
  target: 'es2022',
  copyPublicDir: false,
  ...build,
  rollupOptions,
});
/** Modules: offline is a part of its own, loaded when an app first declares something. */
const modules = (ending, minify) =>
  build({
    ...common,
    build: output(
      {
        input: { orchard: join(root, 'src/index.ts') },
        preserveEntrySignatures: 'allow-extension',
        output: { format: 'es', entryFileNames: `orchard${ending}`, chunkFileNames: `orchard-[name]${ending}`, manualChunks: undefined },
      },
      { minify, modulePreload: false },
    ),
  });
const script = (entry, file, name) =>
  build({
    ...common,
    build: output(
      { output: { codeSplitting: false } },
      { lib: { entry: join(root, entry), formats: ['iife'], name, fileName: () => file }, minify: 'esbuild' },
    ),
  });

/** What `npm pack` packs: modules that a bundler of the app takes in, for browsers and for Node. */
const forNpm = () =>
  build({
    ...common,
    build: output(
      { external: [/^node:/], output: { chunkFileNames: '[name].js' } },
      {
        outDir: packageDir,
        minify: false,
        lib: {
          entry: Object.fromEntries(['index', 'node', 'worker'].map((name) => [name, join(root, `src/${name}.ts`)])),
          formats: ['es'],
        },
      },
    ),
  });

await modules('.js', false);
await modules('.min.js', 'esbuild');
await script('src/index.ts', 'orchard.script.js', 'VividOrchard');
await script('src/worker.ts', 'orchard-worker.js', 'vividOrchardWorker');
await forNpm();
collectTypes(['index', 'node', 'worker'], join(packageDir, 'types'));

const files = Object.fromEntries(
  readdirSync(outDir)
    .filter((file) => file.endsWith('.js'))
    .sort()
    .map((file) => {
      const content = readFileSync(join(outDir, file));
      return [
        file,
        {
          bytes: content.length,
          gzip: gzipSync(content, { level: 9 }).length,
          integrity: `sha384-${createHash('sha384').update(content).digest('base64')}`,
        },
      ];
    }),
);
writeFileSync(join(outDir, 'files.json'), `${JSON.stringify({ version, files }, null, 1)}\n`);

// The packages, for `npm install {address}/client/orchard-client.tgz`; the one for React holds what tsc made of it.
for (const name of ['client', 'react']) {
  const [packed] = JSON.parse(
    execFileSync('npm', ['pack', '--json', '--pack-destination', outDir], {
      cwd: join(root, '..', name),
      stdio: ['ignore', 'pipe', 'ignore'],
    }),
  );
  renameSync(join(outDir, packed.filename), join(outDir, `orchard-${name}.tgz`));
}
