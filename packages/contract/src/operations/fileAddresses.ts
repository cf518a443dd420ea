/** Addresses of files that need no key: of public folders, share links, and for one upload. */
import { z } from 'zod';
import { nothing, operation, slug } from '../common.js';
import { ANY_TYPE, anyone, CONTENT, contentQuery, onFile, READS, UPLOADS, WRITES, write } from './fileCalls.js';
import { file, newShareLink, newUploadAddress, shareLink, uploadAddress } from './fileDefinition.js';

export const share = operation({
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
export const addressUpload = operation({
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

const place = z.object({ app: slug, environment: slug });
const secret = place.extend({ secret: z.string().max(100) });
export const openOperations = {
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
