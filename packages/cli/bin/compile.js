// Part of the build: keeps the code cache of the command, with the functions that every command runs.
import { rmSync, writeFileSync } from 'node:fs';
import { CACHE, load } from './load.js';

rmSync(CACHE, { force: true });
const { script, run } = load();
process.argv = [process.argv[0], 'orchard', '--version'];
const write = process.stdout.write;
process.stdout.write = () => true;
await run();
process.stdout.write = write;
writeFileSync(CACHE, script.createCachedData());
