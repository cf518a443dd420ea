/**
 * Notices a server that takes statements and answers none: one that hangs, or whose machine is gone without a word. Calls
 * under way fail after some seconds, and later ones at once, until it answers again. A long statement on a server that
 * answers others is left alone: it has a time limit of its own.
 */

/** A statement may run so long before anybody asks whether the server is there. */
const QUIET_MS = 4_000;
const LOOK_MS = 1_000;
const MISSES = 2;

type Running = { stream: { destroy(error: Error): unknown } };

export class ServerSilent extends Error {
  /** As the system reports a peer that does not answer. */
  readonly code = 'ETIMEDOUT';

  constructor() {
    super('The database server does not answer.');
  }
}

export class StallWatch {
  /** With when each began. */
  readonly #running = new Map<Running, number>();
  #silent = false;
  #asking = false;
  #misses = 0;
  #answeredAt = 0;
  #timer: NodeJS.Timeout | null = null;

  /** @param probe whether the server answers, on a connection of its own; it ends by itself */
  constructor(
    private readonly probe: () => Promise<boolean>,
    private readonly now: () => number = Date.now,
  ) {}

  /** A statement begins. @throws {ServerSilent} while the server is silent */
  begin(on: Running): void {
    if (this.#silent) throw new ServerSilent();
    this.#running.set(on, this.now());
    this.#timer ??= setInterval(() => void this.#look(), LOOK_MS).unref();
  }

  end(on: Running): void {
    this.#running.delete(on);
  }

  async #look(): Promise<void> {
    if (this.#asking) return;
    const since = this.now() - QUIET_MS;
    const isQuiet = this.#answeredAt < since && [...this.#running.values()].some((begun) => begun < since);
    if (!this.#silent && !isQuiet) return this.#rest();
    this.#asking = true;
    try {
      // A single miss may be ours: a busy process reads an answer late.
      const isThere = await this.probe();
      if (isThere) this.#answeredAt = this.now();
      this.#misses = isThere ? 0 : this.#misses + 1;
      this.#silent = this.#misses >= MISSES;
      if (this.#silent) this.#cut();
    } finally {
      this.#asking = false;
    }
  }

  #rest(): void {
    if (this.#running.size > 0 || !this.#timer) return;
    clearInterval(this.#timer);
    this.#timer = null;
  }

  /** Connections that wait are of no use any more: their server may have forgotten them when it is back. */
  #cut(): void {
    for (const on of this.#running.keys()) on.stream.destroy(new ServerSilent());
    this.#running.clear();
  }

  close(): void {
    if (this.#timer) clearInterval(this.#timer);
    this.#timer = null;
  }
}
