/** A disk that can be full: a file system in memory, where this process may mount one. */
import { execFileSync, spawnSync } from 'node:child_process';
import { mkdirSync, statfsSync } from 'node:fs';

const FILL_TRIES = 20;

export class SmallDisk {
  /** False where this process may not mount: then the directory is an ordinary one, and never full. */
  readonly isThere: boolean;

  /** @param directory an empty one @param room bytes, or with a unit as mount takes it */
  constructor(
    readonly directory: string,
    private readonly room: string,
  ) {
    mkdirSync(directory, { recursive: true });
    this.isThere = this.#mount();
  }

  #mount(): boolean {
    try {
      execFileSync('mount', ['-t', 'tmpfs', '-o', `size=${this.room}`, 'tmpfs', this.directory], { stdio: 'ignore' });
      return true;
    } catch {
      return false;
    }
  }

  /** No more than there is now finds room. */
  fill(): void {
    for (let tries = 1; ; tries++) {
      const { blocks, bfree, bsize } = statfsSync(this.directory);
      try {
        return this.#resize(String(Math.max(1, blocks - bfree) * bsize));
      } catch (error) {
        // Something was written meanwhile, and so much does not fit any more.
        if (tries === FILL_TRIES) throw error;
      }
    }
  }

  free(room = this.room): void {
    this.#resize(room);
  }

  #resize(size: string): void {
    if (this.isThere) execFileSync('mount', ['-o', `remount,size=${size}`, this.directory], { stdio: 'ignore' });
  }

  remove(): void {
    if (this.isThere) SmallDisk.forget(this.directory);
  }

  /** Lets go of what an earlier process may have left at that place. */
  static forget(directory: string): void {
    spawnSync('umount', ['-l', directory], { stdio: 'ignore' });
  }
}
