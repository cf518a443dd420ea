/** Where backups are: a folder of files with `/` in their paths. What was written is whole, or it is not there. */
import type { Readable } from 'node:stream';

export type Place = {
  /** As people call it, without anything secret. */
  words: string;
  /** Names in a folder; none where there is no such folder. */
  list(folder: string): Promise<string[]>;
  /** @throws {PlaceProblem} */
  read(path: string): Promise<Buffer>;
  stream(path: string): Promise<Readable>;
  /** Replaces what is there. */
  write(path: string, content: Buffer | Readable): Promise<void>;
  /** Bytes of a file; null where there is none. */
  size(path: string): Promise<number | null>;
  /** Removes a file or an empty folder; what is not there is fine. */
  remove(path: string): Promise<void>;
  close(): Promise<void>;
};

/** What is wrong with a place, in words that say what to do. */
export class PlaceProblem extends Error {
  constructor(
    readonly kind: 'missing' | 'full' | 'away' | 'refused',
    text: string,
  ) {
    super(text);
  }
}
