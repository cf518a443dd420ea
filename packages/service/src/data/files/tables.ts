import type { AccessRules, JsonObject } from '@orchard/core';
import { bigint, boolean, char, index, int, json, mysqlTable, primaryKey, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

const digest = (name: string) => char(name, { length: 64 });
/** Longer than a path may be in characters, and short enough for an index. */
const path = (name: string) => varchar(name, { length: 1000 });

/** Folders; files themselves are a collection of the service's own. */
export const folderTable = mysqlTable(
  '_folders',
  {
    /** SHA-256 of the path, which is too long for a key. */
    key: digest('key').primaryKey(),
    path: path('path').notNull(),
    /** The key of the folder it lies in. */
    parent: digest('parent').notNull(),
    /** Null where those of the folder above hold. */
    rules: json('rules').$type<AccessRules>(),
    public: boolean('public').notNull(),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (t) => [index('folders_parent').on(t.parent)],
);

/** The contents that are stored. A row is locked while its content is put in its place or removed. */
export const contentTable = mysqlTable(
  '_contents',
  {
    digest: digest('digest').primaryKey(),
    size: bigint('size', { mode: 'number' }).notNull(),
    /** When it was last given to a file: long after that, one that nothing refers to is removed. */
    keptAt: instant('keptAt').notNull(),
    verifiedAt: instant('verifiedAt').notNull(),
    damagedAt: instant('damagedAt'),
  },
  (t) => [index('contents_verified').on(t.verifiedAt), index('contents_kept').on(t.keptAt)],
);

/** Each content that a file had, with the one it has. */
export const editionTable = mysqlTable(
  '_fileEditions',
  {
    fileId: id('fileId').notNull(),
    edition: int('edition').notNull(),
    digest: digest('digest').notNull(),
    size: bigint('size', { mode: 'number' }).notNull(),
    type: varchar('type', { length: 200 }).notNull(),
    by: varchar('by', { length: 300 }).notNull(),
    at: instant('at').notNull(),
  },
  (t) => [primaryKey({ columns: [t.fileId, t.edition] }), index('fileEditions_digest').on(t.digest)],
);

/** Files that were deleted and can be brought back. */
export const deletedFileTable = mysqlTable(
  '_deletedFiles',
  {
    id: id().primaryKey(),
    path: path('path').notNull(),
    /** The record as it was. */
    record: json('record').$type<JsonObject>().notNull(),
    ownerId: id('ownerId'),
    digest: digest('digest').notNull(),
    size: bigint('size', { mode: 'number' }).notNull(),
    by: varchar('by', { length: 300 }).notNull(),
    at: instant('at').notNull(),
  },
  (t) => [index('deletedFiles_at').on(t.at), index('deletedFiles_digest').on(t.digest), index('deletedFiles_owner').on(t.ownerId, t.at)],
);

/** Uploads in parts, and upload addresses: what is expected, and from whom. */
export const uploadTable = mysqlTable(
  '_uploads',
  {
    id: id().primaryKey(),
    kind: varchar('kind', { length: 10 }).$type<'parts' | 'address'>().notNull(),
    /** Of an address: SHA-256 of its secret. */
    secret: digest('secret').notNull(),
    path: path('path').notNull(),
    properties: json('properties').$type<JsonObject>().notNull(),
    /** In parts: the whole size, null until it is known. Of an address: the most. */
    size: bigint('size', { mode: 'number' }),
    type: varchar('type', { length: 200 }),
    replace: boolean('replace').notNull(),
    /** Who asked for it, in stored form, and as whom it is stored. */
    by: varchar('by', { length: 300 }).notNull(),
    author: json('author').$type<JsonObject>().notNull(),
    until: instant('until').notNull(),
    createdAt: instant('createdAt').notNull(),
    usedAt: instant('usedAt'),
  },
  (t) => [index('uploads_secret').on(t.secret), index('uploads_until').on(t.until)],
);

export const shareLinkTable = mysqlTable(
  '_shareLinks',
  {
    id: id().primaryKey(),
    /** SHA-256 of the secret in its address. */
    secret: digest('secret').notNull(),
    fileId: id('fileId').notNull(),
    until: instant('until'),
    count: int('count'),
    used: int('used').notNull(),
    password: varchar('password', { length: 300 }),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (t) => [index('shareLinks_secret').on(t.secret), index('shareLinks_file').on(t.fileId)],
);

/** Renditions of pictures that were made. They are kept as contents. */
export const renditionTable = mysqlTable(
  '_renditions',
  {
    digest: digest('digest').notNull(),
    /** Size, fit and format, as one word. */
    form: varchar('form', { length: 60 }).notNull(),
    content: digest('content').notNull(),
    size: bigint('size', { mode: 'number' }).notNull(),
    usedAt: instant('usedAt').notNull(),
  },
  (t) => [primaryKey({ columns: [t.digest, t.form] }), index('renditions_content').on(t.content)],
);

/** Numbers and bytes of files, day by day. */
export const fileDayTable = mysqlTable('_fileDays', {
  day: char('day', { length: 10 }).primaryKey(),
  files: bigint('files', { mode: 'number' }).notNull(),
  bytes: bigint('bytes', { mode: 'number' }).notNull(),
});
