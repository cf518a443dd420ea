/**
 * The process: `node dist/main.js`. Runs the program as the build packs it: to look for three thousand modules one by one
 * takes longer than all else that a start does.
 */
import { statSync } from 'node:fs';

const PACKED = './packed/program.js';
/** What the compiler writes whenever it compiled something. */
const COMPILED = ['../dist/.tsbuildinfo', '../../contract/dist/.tsbuildinfo', '../../core/dist/.tsbuildinfo'];

const changedAt = (file: string): number => statSync(new URL(file, import.meta.url), { throwIfNoEntry: false })?.mtimeMs ?? 0;
const isPacked = COMPILED.every((file) => changedAt(file) <= changedAt(PACKED));
await import(isPacked ? PACKED : './program.js');
