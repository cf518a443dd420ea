/**
 * SHA-256 of what arrives. A long content is digested on a thread of its own: on the thread of the calls, 100 MB would hold all
 * others up for a quarter of a second.
 */
import { createHash } from 'node:crypto';
import { Worker } from 'node:worker_threads';
import { threadFile } from '../../platform/threads/threadFile.js';

/** `ends`: nothing more comes; the digest is told, or nobody wants it any more. */
export type DigestTask = { id: number; bytes?: Uint8Array; ends?: 'told' | 'dropped' };
export type DigestAnswer = { id: number; taken: number; ended?: true; digest?: string };

/** What is not longer is digested at once, for less than a message to another thread costs. */
const SHORT = 256 * 1024;
/** How many bytes of one content wait for the thread: no more are taken until it has caught up. */
const MOST_WAITING = 4 * 1024 * 1024;

class DigestThread {
  #worker: Worker | null = null;
  #last = 0;
  readonly #open = new Map<number, LongDigest>();

  open(): LongDigest {
    const id = ++this.#last;
    const worker = (this.#worker ??= this.#start());
    const digest = new LongDigest((task, moved) => worker.postMessage({ id, ...task }, moved));
    this.#open.set(id, digest);
    return digest;
  }

  #start(): Worker {
    const worker = new Worker(threadFile(new URL('./digestWorker.js', import.meta.url)));
    // The call whose content it digests keeps the process alive.
    worker.unref();
    worker.on('message', ({ id, taken, ended, digest }: DigestAnswer) => {
      this.#open.get(id)?.hear(taken, digest);
      if (ended) this.#open.delete(id);
    });
    worker.on('error', (error) => {
      this.#worker = null;
      for (const one of this.#open.values()) one.fail(error);
      this.#open.clear();
    });
    return worker;
  }
}

const thread = new DigestThread();

type Send = (task: Omit<DigestTask, 'id'>, moved: ArrayBuffer[]) => void;

/** One content on the thread. */
class LongDigest {
  #waiting = 0;
  #failed: Error | null = null;
  #goOn: { resolve: () => void; reject: (error: Error) => void } | null = null;
  #told: { resolve: (digest: string) => void; reject: (error: Error) => void } | null = null;

  constructor(private readonly send: Send) {}

  /** Resolves when the next piece may come. */
  async update(piece: Uint8Array): Promise<void> {
    if (this.#failed) throw this.#failed;
    this.#waiting += piece.length;
    // A copy that moves to the thread: the piece itself is still to be written.
    const bytes = new Uint8Array(piece);
    this.send({ bytes }, [bytes.buffer]);
    if (this.#waiting > MOST_WAITING) await new Promise<void>((resolve, reject) => (this.#goOn = { resolve, reject }));
  }

  digest(): Promise<string> {
    if (this.#failed) return Promise.reject(this.#failed);
    this.send({ ends: 'told' }, []);
    return new Promise((resolve, reject) => (this.#told = { resolve, reject }));
  }

  drop(): void {
    if (!this.#failed) this.send({ ends: 'dropped' }, []);
  }

  hear(taken: number, digest: string | undefined): void {
    this.#waiting -= taken;
    if (this.#waiting <= MOST_WAITING) this.#goOn?.resolve();
    if (digest !== undefined) this.#told?.resolve(digest);
  }

  fail(error: Error): void {
    this.#failed = error;
    this.#goOn?.reject(error);
    this.#told?.reject(error);
  }
}

/** The digest of a content whose length is not known yet. */
export class ContentDigest {
  #first: Uint8Array[] = [];
  #bytes = 0;
  #long: LongDigest | null = null;

  /** Resolves when the next piece may come. `piece` must not change meanwhile. */
  async update(piece: Uint8Array): Promise<void> {
    if (this.#long) return this.#long.update(piece);
    this.#first.push(piece);
    this.#bytes += piece.length;
    if (this.#bytes <= SHORT) return;
    const held = this.#first;
    this.#first = [];
    this.#long = thread.open();
    for (const one of held) await this.#long.update(one);
  }

  /** @returns SHA-256 in hexadecimal */
  async digest(): Promise<string> {
    if (this.#long) return this.#long.digest();
    const hash = createHash('sha256');
    for (const piece of this.#first) hash.update(piece);
    return hash.digest('hex');
  }

  /** Nobody wants it any more: what arrived broke off. */
  drop(): void {
    this.#long?.drop();
  }
}
