/** Resumable uploads by tus 1.0. */
import { z } from 'zod';
import { nothing, operation } from '../common.js';
import { ANY_TYPE, anyone, UPLOADS, write } from './fileCalls.js';

const tus = {
  caller: write,
  requestHeaders: ['Tus-Resumable', 'Upload-Length', 'Upload-Offset', 'Upload-Metadata'],
  reply: nothing,
  problems: [...UPLOADS, 'upload-refused' as const],
};
const upload = z.object({ upload: z.string().max(64) });
export const uploadOperations = {
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
