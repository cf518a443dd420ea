/**
 * The format of a backup. Everything is stored as objects that are named by what they hold, so that a backup stores only what
 * the ones before it do not have; `manifest.json` says which objects make up the backup. See docs/backup.md.
 */
import { z } from 'zod';

/** Raised when an archive of the new form cannot be read by versions before. */
export const ARCHIVE_FORMAT = 1;
/** How a column's value stands in a line: JSON as it is, base64 of bytes (RFC 4648 section 4), or a position as hexadecimal SRID and WKB (OGC 06-103r4). */
export const COLUMN_FORMS = ['json', 'base64', 'position'] as const;

const sha256 = z.string().regex(/^[0-9a-f]{64}$/);
export const archivePart = z.strictObject({
  object: sha256.describe('Its name: objects/<first two digits>/<name>'),
  rows: z.int().min(0),
  bytes: z.int().min(0).describe('Of the lines, before they are packed'),
  sha256: sha256.describe('Of the lines'),
});
export type ArchivePart = z.infer<typeof archivePart>;
export const archiveTable = z.strictObject({
  name: z.string(),
  collection: z.boolean().describe('Whether it is a collection of the team'),
  columns: z.array(z.strictObject({ name: z.string(), form: z.enum(COLUMN_FORMS) })).describe('In the order of the values in a line'),
  rows: z.int().min(0),
  parts: z.array(archivePart).describe('In the order of the primary key'),
});
export type ArchiveTable = z.infer<typeof archiveTable>;

export const archiveManifest = z.strictObject({
  archive: z.int(),
  id: z.string(),
  app: z.string(),
  environment: z.string(),
  environmentId: z.string(),
  at: z.iso.datetime().describe('The moment it shows'),
  by: z.string(),
  note: z.string(),
  migration: z.int().describe('Of the newest migration of its tables, in milliseconds since 1970: an older version cannot read it'),
  cipher: z.literal('aes-256-cbc').describe('Objects are in the format of `openssl enc -pbkdf2 -iter 1 -md sha256`'),
  key: z.string().describe('A mark of the key; it reveals nothing of it'),
  feed: z.int().describe('The newest entry of the change feed'),
  tables: z.array(archiveTable),
  structure: archivePart.describe('How the tables are made: a line for each'),
  setup: archivePart.describe('What the installation holds of the environment: its keys, clients, roles and hosts'),
  files: z.strictObject({
    count: z.int().min(0),
    bytes: z.int().min(0),
    missing: z.int().min(0).describe('Contents that were damaged or gone already when the backup was made'),
    parts: z.array(archivePart).describe('Lines of [SHA-256 of the content, bytes, object]'),
  }),
  mac: z.string().describe('HMAC-SHA256 of the rest of the document, by a key of its own'),
});
export type ArchiveManifest = z.infer<typeof archiveManifest>;
