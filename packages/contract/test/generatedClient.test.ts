/** Types generated from the OpenAPI document by somebody else's tool let one write and read records. */
import { spawnSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { allOperations, buildOpenApi } from '../src/index.js';

const root = fileURLToPath(new URL('../../..', import.meta.url));
const directory = mkdtempSync(join(tmpdir(), 'orchard-types-'));
const run = (...args: string[]) => spawnSync(process.execPath, args, { cwd: root, encoding: 'utf8' });
const compile = (program: string) => {
  const file = join(directory, 'program.ts');
  writeFileSync(file, `import type { paths } from './types.js';\n${program}`);
  const { stdout } = run(
    'node_modules/typescript/bin/tsc',
    '--ignoreConfig',
    '--noEmit',
    '--strict',
    '--module',
    'nodenext',
    '--target',
    'es2023',
    '--types',
    '',
    file,
  );
  return stdout;
};

beforeAll(() => {
  writeFileSync(join(directory, 'openapi.json'), JSON.stringify(buildOpenApi(allOperations, 'http://service.example')));
  const { status, stderr } = run(
    '--import',
    './scripts/typescript-api.mjs',
    'node_modules/openapi-typescript/bin/cli.js',
    join(directory, 'openapi.json'),
    '-o',
    join(directory, 'types.d.ts'),
  );
  expect(status, stderr).toBe(0);
});
afterAll(() => rmSync(directory, { recursive: true, force: true }));

it('a program that creates, reads and changes a record compiles', () => {
  const program = `
type Records = paths['/app/v1/data/{collection}'];
type One = paths['/app/v1/data/{collection}/{id}'];
export const fresh: Records['post']['requestBody']['content']['application/json'] = { name: 'Fellgate', bunks: 8 };
export const change: One['patch']['requestBody']['content']['application/json'] = { bunks: 9 };
declare const made: Records['post']['responses'][201];
export const version: number = made.content['application/json'].version;
export const etag: string | undefined = made.headers.ETag;
declare const list: Records['get']['responses'][200]['content']['application/json'];
export const first: string | undefined = list.items[0]?.id;
declare const unchanged: One['get']['responses'][304];
export const none: undefined = unchanged.content;
`;
  expect(compile(program)).toBe('');
});

it('one that takes the version for a text does not', () => {
  const program = `
declare const made: paths['/app/v1/data/{collection}']['post']['responses'][201]['content']['application/json'];
export const version: string = made.version;
`;
  expect(compile(program)).toContain("'number' is not assignable to type 'string'");
});
