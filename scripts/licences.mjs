#!/usr/bin/env node
// npm run licences: writes docs/licences.md, the licences of everything that runs with the service. With --check it only says
// whether the list is right, and whether each licence is one that may be passed on with a product of one's own.
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { root } from './prepare.mjs';

const FILE = join(root, 'docs/licences.md');
/** LGPL is for libraries that are loaded and can be exchanged, as those of `sharp` are. */
const FREE = new Set(
  'MIT MIT-0 ISC 0BSD BSD-2-Clause BSD-3-Clause Apache-2.0 BlueOak-1.0.0 CC0-1.0 Unlicense OFL-1.1 MPL-2.0 LGPL-3.0-or-later'.split(' '),
);

/** Optional ones that a machine may not have, by their own files. */
const SAID = { 'cpu-features': 'MIT', buildcheck: 'MIT' };

/** Packages that say it in an older way: the lock file has none, their own file does. */
function ownLicence(path) {
  const file = join(root, path, 'package.json');
  if (!existsSync(file)) return SAID[path.split('node_modules/').at(-1)] ?? 'unknown';
  const { license, licenses } = JSON.parse(readFileSync(file, 'utf8'));
  return license?.type ?? license ?? licenses?.[0]?.type ?? 'unknown';
}

/** SPDX: one of several by OR, all of several by AND. */
const isFree = (licence) =>
  licence
    .replace(/[()]/g, '')
    .split(' OR ')
    .some((choice) => choice.split(' AND ').every((one) => FREE.has(one.trim())));

const { packages } = JSON.parse(readFileSync(join(root, 'package-lock.json'), 'utf8'));
const byLicence = new Map();
for (const [path, { version, license, dev, devOptional, link }] of Object.entries(packages)) {
  if (!path.includes('node_modules/') || link || dev || devOptional) continue;
  const licence = license ?? ownLicence(path);
  const name = `${path.split('node_modules/').at(-1)} ${version}`;
  byLicence.set(licence, [...(byLicence.get(licence) ?? []), name]);
}
const refused = [...byLicence].filter(([licence]) => !isFree(licence));
const sections = [...byLicence]
  .sort(([a], [b]) => a.localeCompare(b))
  .map(([licence, names]) => `## ${licence}\n\n${[...new Set(names)].sort().join(', ')}\n`);
const text = `# Licences\n\nOf the packages that run with the service, from \`package-lock.json\`; \`npm run licences\` writes this list.\n\n${sections.join('\n')}`;

if (!process.argv.includes('--check')) writeFileSync(FILE, text);
else if (!existsSync(FILE) || readFileSync(FILE, 'utf8') !== text) {
  console.error('docs/licences.md is not what package-lock.json says. Run `npm run licences`.');
  process.exit(1);
}
for (const [licence, names] of refused) console.error(`${licence} may not be passed on: ${names.join(', ')}`);
process.exit(refused.length > 0 ? 1 : 0);
