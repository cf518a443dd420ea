// The command is one file with V8's code cache beside it: to compile it takes longer than most commands. A cache of
// another V8 is rejected by V8 itself, and the command is compiled as if there were none.
import { existsSync, readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { fileURLToPath } from 'node:url';
import vm from 'node:vm';

const FILE = fileURLToPath(new URL('../dist/command/orchard.cjs', import.meta.url));
export const CACHE = `${FILE}.cache`;

/** @returns the compiled script, and `run` of the command */
export function load() {
  const source = `(function (exports, require, module) {${readFileSync(FILE, 'utf8')}\n})`;
  const script = new vm.Script(source, { filename: FILE, ...(existsSync(CACHE) ? { cachedData: readFileSync(CACHE) } : {}) });
  const module = { exports: {} };
  script.runInThisContext()(module.exports, createRequire(FILE), module);
  return { script, run: module.exports.run };
}
