/** Paths of files: folders and a name, as people type them, and safe on every system that a file may be saved to. */

/** Bytes in UTF-8: of one name as most file systems take it, and of a whole path. */
export const MOST_NAME_BYTES = 255;
export const MOST_PATH_BYTES = 1_000;
const MOST_DEPTH = 32;

/** A path that was read: `photos/2026/col.jpg` is `col.jpg` in the folder `photos/2026`. The root is the empty folder. */
export type FilePath = { path: string; folder: string; name: string };

export class FilePathError extends Error {}

/** Unicode's directional marks, embeddings, overrides and isolates: a name could end in another extension than it seems to. */
const DIRECTION_MARKS = /[\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069]/;
/** Zero-width characters and the byte order mark, which make two names look alike. */
const INVISIBLE = /[\u00ad\u200b\u2060\ufeff\ufff9-\ufffb]/;
const CONTROL = /[\u0000-\u001f\u007f-\u009f\u2028\u2029]/;
const SEPARATORS = /[\\:*?"<>|]/;
/** Names of devices on Windows, with or without an extension. */
const RESERVED = /^(con|prn|aux|nul|com[0-9]|lpt[0-9])(\.|$)/i;

const bytes = new TextEncoder();

/** Why a segment of a path cannot stand; null if it can. */
function fault(name: string): string | null {
  if (name === '') return 'is empty: two slashes follow each other, or one stands at an end';
  if (name === '.' || name === '..') return 'would lead to another folder; write the whole path';
  if (!name.isWellFormed()) return 'is not well-formed Unicode';
  if (CONTROL.test(name)) return 'holds a control character';
  if (DIRECTION_MARKS.test(name)) return 'holds a mark of writing direction, which could hide its extension';
  if (INVISIBLE.test(name)) return 'holds an invisible character';
  if (SEPARATORS.test(name)) return 'holds one of \\ : * ? " < > |, which not every system can save';
  if (RESERVED.test(name)) return 'is the name of a device on Windows, where it could not be saved';
  if (/^\s|[\s.]$/.test(name)) return 'begins or ends with a space, or ends with a dot, which not every system keeps';
  if (bytes.encode(name).length > MOST_NAME_BYTES) return `has more than ${MOST_NAME_BYTES} bytes`;
  return null;
}

const shown = (name: string): string => JSON.stringify(name.length > 60 ? `${name.slice(0, 60)}…` : name);

/** A folder's path in its normal form (Unicode NFC); the root is empty. @throws {FilePathError} */
export function readFolderPath(text: string): string {
  if (text === '') return '';
  const path = text.normalize('NFC');
  const parts = path.split('/');
  for (const part of parts) {
    const wrong = fault(part);
    if (wrong) throw new FilePathError(`The part ${shown(part)} of the path ${wrong}.`);
  }
  if (parts.length > MOST_DEPTH) throw new FilePathError(`The path has ${parts.length} parts; ${MOST_DEPTH} are the most.`);
  if (bytes.encode(path).length > MOST_PATH_BYTES) throw new FilePathError(`The path has more than ${MOST_PATH_BYTES} bytes.`);
  // `@` begins the id of a file in an address.
  if (path.startsWith('@')) throw new FilePathError('A path does not begin with @: in an address, what follows it is the id of a file.');
  return path;
}

/** A file's path. @throws {FilePathError} */
export function readFilePath(text: string): FilePath {
  const path = readFolderPath(text);
  if (path === '') throw new FilePathError('The path names no file.');
  const at = path.lastIndexOf('/');
  return { path, folder: at < 0 ? '' : path.slice(0, at), name: path.slice(at + 1) };
}

/** A folder and those it lies in, the innermost first and the root last: `a/b`, `a`, ``. */
export function foldersAbove(folder: string): string[] {
  const all = [folder];
  for (let at = folder; at !== ''; ) all.push((at = at.includes('/') ? at.slice(0, at.lastIndexOf('/')) : ''));
  return all;
}

/** Whether a folder is another or lies in it. */
export const liesIn = (folder: string, outer: string): boolean => outer === '' || folder === outer || folder.startsWith(`${outer}/`);

/** The path where something lies after its folder became another. */
export const movedPath = (path: string, from: string, to: string): string =>
  [to, path.slice(from === '' ? 0 : from.length + 1)].filter(Boolean).join('/');
