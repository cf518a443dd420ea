/** What calls of one record are told. */
import { Problem } from '@orchard/contract';
import type { Author } from './author.js';
import type { Expected } from './forms.js';

/** A missing record, or, where refusals reveal nothing, one that may not be read. */
export const missing = (collection: string, id: string, { told, userId }: Pick<Author, 'told' | 'userId'>) =>
  new Problem(
    'not-found',
    told
      ? `\`${collection}\` has no record \`${id}\`.`
      : `\`${collection}\` has no record \`${id}\` that ${userId === null ? 'callers who are not signed in' : 'this user'} may read.`,
  );
export const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path, problem, expected }] });

/** @throws {Problem} version-conflict */
export function checkVersion(row: { id: string; version: number }, expected: Expected, collection: string): void {
  if (expected.absent)
    throw new Problem('version-conflict', `\`${collection}\` has a record ${row.id} already, at version ${row.version}.`, {
      currentVersion: row.version,
    });
  if (expected.version === undefined || expected.version === row.version) return;
  throw new Problem(
    'version-conflict',
    `If-Match names version ${expected.version} of ${collection}/${row.id}; it is at version ${row.version} now. Read it again and apply your change to that.`,
    { currentVersion: row.version },
  );
}
