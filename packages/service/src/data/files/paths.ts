/** Paths in calls. */
import { Problem } from '@orchard/contract';
import { type FilePath, FilePathError, readFilePath, readFolderPath } from '@orchard/core';

function reading<T>(where: string, read: () => T): T {
  try {
    return read();
  } catch (error) {
    if (!(error instanceof FilePathError)) throw error;
    throw new Problem('invalid-input', error.message, {
      fields: [{ path: where, problem: error.message, expected: 'folders and a name, such as photos/2026/col.jpg' }],
    });
  }
}

/** @throws {Problem} invalid-input */
export const filePathOf = (text: string, where = 'path.path'): FilePath => reading(where, () => readFilePath(text));
/** @throws {Problem} invalid-input */
export const folderPathOf = (text: string, where = 'path.path'): string => reading(where, () => readFolderPath(text));

/** The id that an address names in place of a path: `@` and the id. */
export const idIn = (path: string): string | null => (/^@[A-Za-z0-9][A-Za-z0-9._-]{0,63}$/.test(path) ? path.slice(1) : null);
