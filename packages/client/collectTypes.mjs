// The types of the package, and those of the contract and the core that they stand on: what apps compile against has to be
// in the package, since the others are not published.
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';

const packages = join(import.meta.dirname, '..');
const SPECIFIER = /(from |import\(|import )(["'])([^"']+)\2/g;
const EXTERNAL = new Set(['zod']);

/** @param entries names of modules of the client @param to the folder that gets a folder for each package */
export function collectTypes(entries, to) {
  const waiting = entries.map((name) => `client/${name}.d.ts`);
  const taken = new Set(waiting);
  for (let path = waiting.pop(); path !== undefined; path = waiting.pop()) {
    const [name, ...inside] = path.split('/');
    const text = readFileSync(join(packages, name, 'dist', ...inside), 'utf8');
    const follow = (specifier) => {
      const target = targetOf(path, specifier);
      if (target === null) return specifier;
      if (!taken.has(target)) waiting.push(target);
      taken.add(target);
      const from = relative(dirname(path), target).replace(/\.d\.ts$/, '.js');
      return from.startsWith('.') ? from : `./${from}`;
    };
    const own = text.replace(SPECIFIER, (_, before, quote, specifier) => `${before}${quote}${follow(specifier)}${quote}`);
    mkdirSync(dirname(join(to, path)), { recursive: true });
    writeFileSync(join(to, path), own.replace(/\n\/\/# sourceMappingURL=.*/, ''));
  }
}

/** The file that a module's specifier leads to; null for another's package. */
function targetOf(path, specifier) {
  if (specifier.startsWith('.')) return join(dirname(path), specifier).replace(/\.js$/, '.d.ts');
  const [, name, part] = /^@orchard\/(\w+)(\/.+)?$/.exec(specifier) ?? [];
  if (name === undefined) {
    if (!EXTERNAL.has(specifier.split('/')[0])) throw new Error(`${path} has types of ${specifier}, which the package does not depend on.`);
    return null;
  }
  const { exports } = JSON.parse(readFileSync(join(packages, name, 'package.json'), 'utf8'));
  return `${name}/${exports[`.${part ?? ''}`].replace('./dist/', '').replace(/\.js$/, '.d.ts')}`;
}
