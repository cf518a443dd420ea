import { z } from 'zod';
import { ENVIRONMENT, environmentParams, forMembers, jsonObject, listQuery, none, nothing, operation, page, slug } from '../common.js';
import {
  deletedFile,
  edition,
  file,
  filePart,
  filePath,
  fileSettings,
  fileUse,
  folder,
  folderPath,
  folderRules,
  folderSettings,
  newShareLink,
  newUploadAddress,
  renditionQuery,
  shareLink,
  uploadAddress,
} from './fileDefinition.js';

const read = { kind: 'app', user: 'optional', scope: 'files:read' } as const;
const write = { kind: 'app', user: 'optional', scope: 'files:write' } as const;
const anyone = { kind: 'anyone' } as const;
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;

const onFile = z.object({ path: filePath });
const onFolder = z.object({ path: folderPath });
const ONE = '/app/v1/files/{path...}';
const FOLDER = '/app/v1/folders/{path...}';
const ANY_TYPE = ['*/*'];
const HOOKS = ['refused-by-function', 'function-failed', 'function-stopped', 'hooks-too-deep'] as const;
const READS = ['not-found', 'access-refused', 'invalid-input'] as const;
const WRITES = [...READS, 'version-conflict', 'already-exists', 'still-referenced', ...HOOKS] as const;
const UPLOADS = [...WRITES, 'file-too-large', 'quota-exceeded', 'storage-full', 'digest-mismatch', 'upload-broken'] as const;

const VERSION = { ETag: 'The version of the file, in quotes, for `If-Match`' };
const CONTENT = {
  ETag: 'The digest of the content, in quotes',
  'Repr-Digest': 'SHA-256 of the whole content (RFC 9530)',
  'Content-Disposition': 'Pages and scripts are downloaded, never shown in the page',
};
const contentQuery = z.strictObject({
  edition: z.coerce.number().int().min(1).optional().describe('A former edition, or this one: an address that always has the same content'),
  download: z.stringbool().optional().describe('Whether browsers save it rather than show it'),
  ...renditionQuery,
});

const recordList = listQuery.extend({
  fields: z.string().max(4000).optional().describe('Comma-separated names; `id` and `version` are always included'),
  count: z.stringbool().optional().describe('Whether to count all matching files'),
  deep: z.stringbool().optional().describe('With the files of the folders below'),
});
const folderPage = page(filePart)
  .extend({ folders: z.array(folder), count: z.int().optional() })
  .meta({ id: 'FolderPage' });

const put = operation({
  id: 'files.put',
  changes: 'file',
  method: 'PUT',
  path: ONE,
  summary: 'Store a file, or a new edition of it',
  caller: write,
  params: onFile,
  query: z.strictObject({ properties: z.string().max(8000).optional().describe('Properties of the file, as a JSON object') }),
  rawBody: ANY_TYPE,
  requestHeaders: ['If-Match', 'If-None-Match', 'Content-Digest'],
  replyHeaders: VERSION,
  alsoStatus: 201,
  reply: file,
  problems: [...UPLOADS],
});
const head = operation({
  id: 'files.head',
  method: 'HEAD',
  path: ONE,
  summary: 'Size, type and digest of a file, without its content',
  caller: read,
  params: onFile,
  query: contentQuery,
  replyHeaders: CONTENT,
  reply: nothing,
  problems: [...READS],
});
const get = operation({
  id: 'files.get',
  method: 'GET',
  path: ONE,
  summary: 'The content of a file, or a rendition of a picture',
  caller: read,
  params: onFile,
  query: contentQuery,
  requestHeaders: ['Range', 'If-Range', 'If-None-Match', 'If-Modified-Since', 'Accept'],
  replyHeaders: CONTENT,
  replyTypes: ANY_TYPE,
  notModified: true,
  reply: nothing,
  problems: [...READS, 'no-rendition', 'content-damaged', 'range-not-satisfiable', 'version-conflict'],
});
const change = operation({
  id: 'files.change',
  command: 'file change',
  changes: 'file',
  method: 'PATCH',
  path: ONE,
  summary: 'Change properties of a file (RFC 7396), or move it to another path',
  caller: write,
  params: onFile,
  body: jsonObject.describe('Properties; `path` moves the file'),
  requestHeaders: ['If-Match'],
  replyHeaders: VERSION,
  reply: file,
  problems: [...WRITES],
});
const remove = operation({
  id: 'files.remove',
  command: 'file remove',
  changes: 'file',
  method: 'DELETE',
  path: ONE,
  summary: 'Delete a file; it can be brought back for some days',
  caller: write,
  params: onFile,
  requestHeaders: ['If-Match'],
  status: 204,
  reply: nothing,
  problems: [...WRITES],
});
const editions = operation({
  id: 'files.editions',
  command: 'file editions',
  method: 'GET',
  path: '/app/v1/file-editions/{path...}',
  summary: 'The editions of a file that are kept, newest first',
  caller: read,
  params: onFile,
  reply: z.object({ items: z.array(edition) }),
  problems: [...READS],
});
const describe = operation({
  id: 'files.describe',
  command: 'file show',
  method: 'GET',
  path: '/app/v1/file-facts/{path...}',
  summary: 'What is known of a file',
  caller: read,
  params: onFile,
  replyHeaders: VERSION,
  reply: file,
  problems: [...READS],
});
const listRoot = operation({
  id: 'folders.root',
  method: 'GET',
  path: '/app/v1/folders',
  summary: 'Files and folders of the root',
  caller: read,
  query: recordList,
  reply: folderPage,
  problems: ['malformed-filter', ...READS],
});
const list = operation({
  id: 'folders.list',
  method: 'GET',
  path: FOLDER,
  summary: 'Files and folders of a folder',
  caller: read,
  params: onFolder,
  query: recordList,
  reply: folderPage,
  problems: ['malformed-filter', ...READS],
});
const make = operation({
  id: 'folders.make',
  command: 'file mkdir',
  changes: 'folder',
  method: 'PUT',
  path: FOLDER,
  summary: 'Make a folder; storing a file makes its folders, too',
  caller: write,
  params: onFolder,
  alsoStatus: 201,
  reply: folder,
  problems: [...READS, 'already-exists'],
});
const move = operation({
  id: 'folders.move',
  changes: 'folder',
  method: 'PATCH',
  path: FOLDER,
  summary: 'Rename or move a folder with all that is in it',
  caller: write,
  params: onFolder,
  body: z.strictObject({ path: folderPath }),
  reply: folder,
  problems: [...WRITES],
});
const removeFolder = operation({
  id: 'folders.remove',
  changes: 'folder',
  method: 'DELETE',
  path: FOLDER,
  summary: 'Delete a folder',
  caller: write,
  params: onFolder,
  query: z.strictObject({ files: z.stringbool().default(false).describe('With the files in it, which can be brought back for some days') }),
  status: 204,
  reply: nothing,
  problems: [...WRITES, 'folder-not-empty'],
});
const live = operation({
  id: 'files.live',
  method: 'GET',
  path: '/app/v1/live-files',
  summary: 'Files that come, change and go, as it happens',
  caller: read,
  query: z.strictObject({ folder: folderPath.default(''), filter: listQuery.shape.filter }),
  stream: true,
  requestHeaders: ['Last-Event-ID'],
  reply: z
    .looseObject({})
    .meta({ id: 'FileEvent', description: 'Events `ready`, then `entered`, `changed` (with `record`, a File) and `left` (with `id`)' }),
  problems: ['malformed-filter', ...READS],
});
const archive = operation({
  id: 'folders.archive',
  method: 'GET',
  path: '/app/v1/archives/{path...}',
  summary: 'The files of a folder, as one ZIP',
  caller: read,
  params: onFolder,
  query: z.strictObject({ filter: listQuery.shape.filter }),
  replyTypes: ['application/zip'],
  reply: nothing,
  problems: ['malformed-filter', ...READS],
});
const deleted = operation({
  id: 'files.deleted',
  command: 'file deleted',
  method: 'GET',
  path: '/app/v1/deleted-files',
  summary: 'Deleted files that can be brought back, newest first; of users, their own',
  caller: read,
  query: z.strictObject({ limit: z.coerce.number().int().min(1).max(1000).default(50), before: z.iso.datetime().optional() }),
  reply: z.object({ items: z.array(deletedFile) }),
});
const restore = operation({
  id: 'files.restore',
  command: 'file restore',
  changes: 'file',
  method: 'POST',
  path: '/app/v1/deleted-files/{id}/restoration',
  summary: 'Bring a deleted file back',
  caller: write,
  params: z.object({ id: z.string().max(64) }),
  body: z.strictObject({ path: filePath.optional().describe('Where it is put; without it, where it was') }),
  status: 201,
  reply: file,
  problems: [...WRITES, 'quota-exceeded'],
});
const share = operation({
  id: 'shareLinks.make',
  changes: 'share link',
  method: 'POST',
  path: '/app/v1/share-links',
  summary: 'Make an address that lets whoever has it download a file',
  caller: write,
  body: newShareLink,
  status: 201,
  reply: shareLink.extend({ address: z.string().describe('It is not shown again') }),
  problems: [...READS],
});
const addressUpload = operation({
  id: 'uploadAddresses.make',
  changes: 'file',
  method: 'POST',
  path: '/app/v1/upload-addresses',
  summary: 'Make an address that takes one upload without further rights',
  caller: write,
  body: newUploadAddress,
  status: 201,
  reply: uploadAddress,
  problems: [...WRITES, 'quota-exceeded'],
});

const tus = {
  caller: write,
  requestHeaders: ['Tus-Resumable', 'Upload-Length', 'Upload-Offset', 'Upload-Metadata'],
  reply: nothing,
  problems: [...UPLOADS, 'upload-refused' as const],
};
const upload = z.object({ upload: z.string().max(64) });
const uploadOperations = {
  begin: operation({
    ...tus,
    id: 'uploads.begin',
    changes: 'file',
    method: 'POST',
    path: '/app/v1/uploads',
    summary: 'Begin a resumable upload (tus 1.0); `Upload-Metadata` holds `path`, and `properties` as JSON',
    rawBody: ANY_TYPE,
    status: 201,
    replyHeaders: { Location: 'Where its parts go' },
  }),
  offset: operation({
    ...tus,
    id: 'uploads.offset',
    method: 'HEAD',
    path: '/app/v1/uploads/{upload}',
    summary: 'How much of an upload has arrived',
    params: upload,
  }),
  append: operation({
    ...tus,
    id: 'uploads.append',
    changes: 'file',
    method: 'PATCH',
    path: '/app/v1/uploads/{upload}',
    summary: 'Send the next part of an upload; the last one stores the file',
    params: upload,
    rawBody: ['application/offset+octet-stream'],
    status: 204,
    replyHeaders: { 'Upload-Offset': 'How much has arrived' },
  }),
  end: operation({
    ...tus,
    id: 'uploads.end',
    changes: 'file',
    method: 'DELETE',
    path: '/app/v1/uploads/{upload}',
    summary: 'Give an upload up',
    params: upload,
    status: 204,
  }),
  options: operation({
    ...tus,
    id: 'uploads.options',
    method: 'OPTIONS',
    path: '/app/v1/uploads',
    summary: 'What of tus the service speaks',
    caller: anyone,
    status: 204,
  }),
};

const place = z.object({ app: slug, environment: slug });
const secret = place.extend({ secret: z.string().max(100) });
const openOperations = {
  publicFile: operation({
    id: 'files.public',
    method: 'GET',
    path: '/files/{app}/{environment}/public/{path...}',
    summary: 'The content of a file in a public folder; no key is needed',
    caller: anyone,
    params: place.extend(onFile.shape),
    query: contentQuery,
    replyTypes: ANY_TYPE,
    replyHeaders: CONTENT,
    notModified: true,
    reply: nothing,
    problems: ['not-found', 'invalid-input', 'no-rendition', 'content-damaged', 'range-not-satisfiable', 'version-conflict'],
  }),
  shared: operation({
    id: 'shareLinks.open',
    method: 'GET',
    path: '/files/{app}/{environment}/shared/{secret}',
    summary: 'Download by a share link; one with a password shows a page that asks for it',
    caller: anyone,
    params: secret,
    replyTypes: ANY_TYPE,
    reply: nothing,
    problems: ['not-found', 'share-link-ended', 'content-damaged'],
  }),
  sharedByPassword: operation({
    id: 'shareLinks.unlock',
    method: 'POST',
    path: '/files/{app}/{environment}/shared/{secret}',
    summary: 'Download by a share link with its password',
    caller: anyone,
    params: secret,
    rate: 'sign-in',
    rawBody: ['application/x-www-form-urlencoded'],
    replyTypes: ANY_TYPE,
    reply: nothing,
    problems: ['not-found', 'share-link-ended', 'content-damaged', 'malformed-json', 'body-too-large'],
  }),
  addressed: operation({
    id: 'uploadAddresses.put',
    method: 'PUT',
    path: '/files/{app}/{environment}/upload/{secret}',
    summary: 'Upload to an upload address',
    caller: anyone,
    params: secret,
    rawBody: ANY_TYPE,
    requestHeaders: ['Content-Digest'],
    status: 201,
    reply: file,
    problems: [...UPLOADS, 'unsupported-media-type', 'upload-address-ended'],
  }),
  addressedForm: operation({
    id: 'uploadAddresses.post',
    method: 'POST',
    path: '/files/{app}/{environment}/upload/{secret}',
    summary: 'Upload to an upload address by a form with a part `file`',
    caller: anyone,
    params: secret,
    rawBody: ['multipart/form-data'],
    status: 201,
    reply: file,
    problems: [...UPLOADS, 'unsupported-media-type', 'upload-address-ended'],
  }),
};

/** Calls of apps and servers. */
export const fileOperations = {
  put,
  head,
  get,
  change,
  remove,
  editions,
  describe,
  live,
  deleted,
  restore,
  share,
  addressUpload,
  ...openOperations,
};
export const folderOperations = { listRoot, list, make, move, remove: removeFolder, archive };
export { uploadOperations };

/** The same for members, and what only they do. */
export const managedFileOperations = {
  put: forMembers(put, 'developer'),
  head: forMembers(head, 'viewer'),
  get: forMembers(get, 'viewer'),
  change: forMembers(change, 'developer'),
  remove: forMembers(remove, 'developer'),
  editions: forMembers(editions, 'viewer'),
  describe: forMembers(describe, 'viewer'),
  live: forMembers(live, 'viewer'),
  deleted: forMembers(deleted, 'viewer'),
  restore: forMembers(restore, 'developer'),
  share: forMembers(share, 'developer'),
  addressUpload: forMembers(addressUpload, 'developer'),
  listRoot: forMembers(listRoot, 'viewer'),
  list: forMembers(list, 'viewer'),
  make: forMembers(make, 'developer'),
  move: forMembers(move, 'developer'),
  removeFolder: forMembers(removeFolder, 'developer'),
  archive: forMembers(archive, 'viewer'),
  begin: forMembers(uploadOperations.begin, 'developer'),
  offset: forMembers(uploadOperations.offset, 'developer'),
  append: forMembers(uploadOperations.append, 'developer'),
  end: forMembers(uploadOperations.end, 'developer'),
  links: operation({
    id: 'shareLinks.list',
    command: 'file links',
    method: 'GET',
    path: `${ENVIRONMENT}/share-links`,
    summary: 'Share links that have not ended',
    caller: viewer,
    params: environmentParams,
    query: none,
    reply: z.object({ items: z.array(shareLink) }),
  }),
  endLink: operation({
    id: 'shareLinks.end',
    command: 'file unshare',
    changes: 'share link',
    method: 'DELETE',
    path: `${ENVIRONMENT}/share-links/{id}`,
    summary: 'End a share link',
    caller: developer,
    params: environmentParams.extend({ id: z.string().max(64) }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  folderSettings: operation({
    id: 'folders.settings',
    method: 'GET',
    path: `${ENVIRONMENT}/folder-settings`,
    summary: 'The root and the folders that have rules of their own, or are public',
    caller: viewer,
    params: environmentParams,
    query: z.strictObject({ path: folderPath.optional().describe('One folder, and the rules that hold in it') }),
    reply: z.object({ items: z.array(folderSettings) }),
    problems: ['invalid-input'],
  }),
  changeFolderSettings: operation({
    id: 'folders.changeSettings',
    changes: 'folder',
    method: 'PUT',
    path: `${ENVIRONMENT}/folder-settings`,
    summary: 'Set who may read and write the files of a folder, and whether it is public',
    caller: developer,
    params: environmentParams,
    query: z.strictObject({ path: folderPath.default('').describe('Empty for the root') }),
    body: z.strictObject({
      rules: folderRules.partial().nullable().optional().describe('Null: those of the folder above'),
      public: z.boolean().optional(),
    }),
    reply: folderSettings,
    problems: ['malformed-filter', 'invalid-input', 'not-found'],
  }),
  settings: operation({
    id: 'files.settings',
    method: 'GET',
    path: `${ENVIRONMENT}/file-settings`,
    summary: 'Limits on files, and how long they are kept',
    caller: viewer,
    params: environmentParams,
    reply: fileSettings,
  }),
  changeSettings: operation({
    id: 'files.changeSettings',
    command: 'file limits',
    changes: 'file settings',
    method: 'PATCH',
    path: `${ENVIRONMENT}/file-settings`,
    summary: 'Change the limits on files, and how long they are kept',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject(fileSettings.partial().shape),
    reply: fileSettings,
  }),
  use: operation({
    id: 'files.use',
    command: 'file use',
    method: 'GET',
    path: `${ENVIRONMENT}/file-use`,
    summary: 'What files take, by folder and user, and over time',
    caller: viewer,
    params: environmentParams,
    reply: fileUse,
  }),
};
