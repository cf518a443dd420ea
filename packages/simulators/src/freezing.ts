/** A process that hangs, as its machine would, until it is let go on. */
import type { ChildProcess } from 'node:child_process';
import { readdirSync, readFileSync } from 'node:fs';
import { setTimeout as sleep } from 'node:timers/promises';

/**
 * Stops a process, and waits until it stands still: a thread on its way goes on until it is told, and could answer once more.
 * @returns once none of its threads runs, or the process is gone
 */
export async function freeze(child: ChildProcess): Promise<void> {
  child.kill('SIGSTOP');
  while (threadStates(child.pid).some((state) => !STILL.has(state))) await sleep(2);
}

export function thaw(child: ChildProcess): void {
  child.kill('SIGCONT');
}

/** By proc(5): stopped, and ended but not yet waited for. */
const STILL = new Set(['T', 'Z', 'X']);

/** The state of each thread, the first word behind the name in brackets; none of a process that is gone. */
function threadStates(pid: number | undefined): string[] {
  const folder = `/proc/${pid}/task`;
  try {
    return readdirSync(folder).map((thread) => {
      const stat = readFileSync(`${folder}/${thread}/stat`, 'utf8');
      return stat.charAt(stat.lastIndexOf(')') + 2);
    });
  } catch {
    // A thread that ended in between: whether others run is asked again.
    return pid === undefined || !isThere(pid) ? [] : ['R'];
  }
}

function isThere(pid: number): boolean {
  try {
    return process.kill(pid, 0);
  } catch {
    return false;
  }
}
