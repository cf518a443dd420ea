/** What calls on files have in common. */
import { z } from 'zod';
import { filePath, renditionQuery } from './fileDefinition.js';

/** Who stores and changes files: users by the rules of folders, and servers. */
export const write = { kind: 'app', user: 'optional', scope: 'files:write' } as const;
export const anyone = { kind: 'anyone' } as const;

export const onFile = z.object({ path: filePath });
export const ANY_TYPE = ['*/*'];
const HOOKS = ['refused-by-function', 'function-failed', 'function-stopped', 'hooks-too-deep'] as const;
export const READS = ['not-found', 'access-refused', 'invalid-input'] as const;
export const WRITES = [...READS, 'version-conflict', 'already-exists', 'still-referenced', ...HOOKS] as const;
export const UPLOADS = [...WRITES, 'file-too-large', 'quota-exceeded', 'storage-full', 'digest-mismatch', 'upload-broken'] as const;

export const CONTENT = {
  ETag: 'The digest of the content, in quotes',
  'Repr-Digest': 'SHA-256 of the whole content (RFC 9530)',
  'Content-Disposition': 'Pages and scripts are downloaded, never shown in the page',
};
export const contentQuery = z.strictObject({
  edition: z.coerce.number().int().min(1).optional().describe('A former edition, or this one: an address that always has the same content'),
  download: z.stringbool().optional().describe('Whether browsers save it rather than show it'),
  ...renditionQuery,
});
