/** A process on a machine with only so much memory. */
import type { ChildProcess } from 'node:child_process';
import { existsSync, readFileSync } from 'node:fs';

/** What the machine of a node has, with room to spare. */
const MOST_MEMORY = 3_000_000_000;
const PAGE = 4_096;

/**
 * Kills a node that takes more memory than its machine has, as systemd's MemoryMax does. A node has been seen to take 24 GB
 * within minutes, after another one had come back with its clock turned.
 */
export function limitMemory(child: ChildProcess): void {
  const timer = setInterval(() => {
    if (residentBytes(child.pid) > MOST_MEMORY) child.kill('SIGKILL');
  }, 1_000).unref();
  child.once('exit', () => clearInterval(timer));
}

/** By proc(5); 0 where there is none. */
function residentBytes(pid: number | undefined): number {
  const file = `/proc/${pid}/statm`;
  return existsSync(file) ? Number(readFileSync(file, 'utf8').split(' ')[1]) * PAGE : 0;
}
