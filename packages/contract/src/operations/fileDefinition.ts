/** What a file and a folder are. */
import { z } from 'zod';
import { actor, jsonObject, time, uuid } from '../common.js';

export const filePath = z
  .string()
  .max(2000)
  .describe('Folders and name, such as `photos/2026/col.jpg`; `@` and an id for the file with it');
export const folderPath = z.string().max(2000).describe('Such as `photos/2026`');
const sha256 = z
  .string()
  .regex(/^[0-9a-f]{64}$/)
  .describe('SHA-256 of the content, in hexadecimal');

const facts = {
  id: z.string(),
  path: z.string(),
  folder: z.string().describe('Empty for the root'),
  name: z.string(),
  size: z.int().describe('In bytes'),
  type: z.string().describe('Media type, judged by the content'),
  digest: sha256,
  durationMs: z.int().nullable().describe('Of video and audio, where it can be read'),
  rulesFrom: z.string().describe('The folder whose rules hold; empty for the root'),
  edition: z.int().describe('Raised by one whenever the content changes'),
  version: z.int().describe('Raised by one whenever anything changes'),
  ownerId: uuid.nullable(),
  createdAt: time,
  updatedAt: time,
};
export const file = z
  .looseObject(facts)
  .meta({ id: 'File', description: 'What is known of a file, and the properties that the team gave it' });
export type FileDocument = z.infer<typeof file>;
/** To TypeScript it is whole: the caller knows which members it asked for. */
export const filePart = z.looseObject({ id: z.string(), version: z.int() }).meta({
  id: 'FilePart',
  description: 'A file; with `fields`, only those members and always `id` and `version`',
}) as unknown as typeof file;

export const folder = z
  .object({
    path: z.string(),
    name: z.string(),
    files: z.int().optional().describe('With `count`: those that the caller may read, in it and below'),
    bytes: z.int().optional(),
    public: z.boolean().describe('Whether everybody may read its files, without a key'),
  })
  .meta({ id: 'Folder' });
export type FolderDocument = z.infer<typeof folder>;

const rule = z.string().trim().min(1).max(4000).describe('A filter in CQL2 over files');
export const folderRules = z.object({ read: rule, create: rule, update: rule, delete: rule }).meta({ id: 'FolderRules' });
export const folderSettings = z
  .object({
    path: z.string(),
    rules: folderRules.nullable().describe('Null where those of the folder above hold'),
    inForce: folderRules.extend({ from: z.string().describe('The folder whose rules they are; empty for the root') }),
    public: z.boolean(),
  })
  .meta({ id: 'FolderSettings' });
export type FolderSettingsDocument = z.infer<typeof folderSettings>;

export const deletedFile = z
  .object({
    id: z.string(),
    path: z.string(),
    size: z.int(),
    type: z.string(),
    deletedAt: time,
    deletedBy: actor,
    until: time.describe('It can be brought back until then'),
  })
  .meta({ id: 'DeletedFile' });
export type DeletedFileDocument = z.infer<typeof deletedFile>;

export const edition = z
  .object({ edition: z.int(), size: z.int(), type: z.string(), digest: sha256, at: time, by: actor })
  .meta({ id: 'FileEdition' });
export type FileEditionDocument = z.infer<typeof edition>;

export const shareLink = z
  .object({
    id: z.string(),
    path: z.string().nullable().describe('Null when the file is gone'),
    until: time.nullable(),
    count: z.int().nullable().describe('How many downloads there may be'),
    used: z.int(),
    password: z.boolean().describe('Whether it asks for one'),
    createdBy: actor,
    createdAt: time,
  })
  .meta({ id: 'ShareLink' });
export type ShareLinkDocument = z.infer<typeof shareLink>;

export const newShareLink = z.strictObject({
  path: filePath,
  until: z.iso.datetime({ offset: true }).optional().describe('RFC 3339; without it, 7 days from now'),
  count: z.int().min(1).max(1_000_000).optional().describe('The most downloads'),
  password: z.string().min(4).max(256).optional(),
});
export const newUploadAddress = z.strictObject({
  path: filePath,
  size: z.int().min(0).optional().describe('The most bytes'),
  type: z
    .string()
    .regex(/^[\w.+-]+\/(\*|[\w.+-]+)$/, 'A media type, such as image/jpeg, or image/*.')
    .optional()
    .describe('What its content must be'),
  until: z.iso.datetime({ offset: true }).optional().describe('RFC 3339; without it, an hour from now'),
  replace: z.boolean().default(false).describe('Whether a file that is there by then gets a new edition'),
  properties: jsonObject.optional(),
});
export const uploadAddress = z
  .object({ address: z.string(), until: time, path: z.string() })
  .meta({ id: 'UploadAddress', description: 'Takes one PUT of the content, or one POST of a form with a part `file`' });

export const FITS = ['inside', 'cover', 'contain', 'fill'] as const;
export const RENDITION_FORMATS = ['jpeg', 'png', 'webp', 'avif'] as const;
/** Of a rendition, in pixels. */
export const MOST_PIXELS_A_SIDE = 4_096;
const side = z.coerce.number().int().min(1).max(MOST_PIXELS_A_SIDE).optional();
export const renditionQuery = {
  width: side.describe('Of a picture: the width of a rendition, in pixels'),
  height: side,
  fit: z.enum(FITS).optional().describe('How it fits into width and height; `inside` without it, which keeps the proportions'),
  format: z.enum(RENDITION_FORMATS).optional().describe('Without it, what `Accept` prefers, or that of the picture'),
};

export const fileSettings = z
  .object({
    totalBytes: z.int().min(0).nullable().describe('The most that all files of the environment take; null for no limit'),
    userBytes: z.int().min(0).nullable().describe('The most that the files of one user take'),
    fileBytes: z.int().min(1).describe('The most that one file takes'),
    keepDeletedDays: z.int().min(1).max(90),
    editions: z.int().min(1).max(100).describe('How many editions of each file are kept'),
  })
  .meta({ id: 'FileSettings' });
export type FileSettings = z.infer<typeof fileSettings>;

export const fileUse = z
  .object({
    files: z.int(),
    bytes: z.int().describe('Of the files as they are'),
    storedBytes: z.int().describe('On the disk: equal contents once, with former editions and deleted files'),
    folders: z.array(z.object({ folder: z.string(), files: z.int(), bytes: z.int() })).describe('Folders of the root, largest first'),
    users: z.array(z.object({ userId: z.string().nullable(), files: z.int(), bytes: z.int() })).describe('Owners, largest first'),
    days: z.array(z.object({ day: z.string(), files: z.int(), bytes: z.int() })),
    damaged: z.array(z.object({ path: z.string(), digest: z.string(), noticedAt: time })).describe('Whose content is not as it was stored'),
  })
  .meta({ id: 'FileUse' });
export type FileUse = z.infer<typeof fileUse>;
