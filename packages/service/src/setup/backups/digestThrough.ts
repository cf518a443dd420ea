import { createHash } from 'node:crypto';
import { Transform } from 'node:stream';

/** Lets bytes through, and works out their SHA-256. */
export class DigestThrough extends Transform {
  readonly #hash = createHash('sha256');
  #digest: string | null = null;

  override _transform(chunk: Buffer, _encoding: string, done: (error: Error | null, chunk: Buffer) => void): void {
    this.#hash.update(chunk);
    done(null, chunk);
  }

  /** Of all that came through. */
  digest(): string {
    this.#digest ??= this.#hash.digest('hex');
    return this.#digest;
  }
}
