/** The client library as apps load it: under its own name, and under a version, whose address never changes what it holds. */
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import express, { type RequestHandler, Router } from 'express';

export const LIBRARY = join(fileURLToPath(new URL('../../../../', import.meta.url)), 'client/dist/browser');
/** What each file is, with the hash for `integrity` (Subresource Integrity). */
export type LibraryFiles = { version: string; files: Record<string, { bytes: number; gzip: number; integrity: string }> };
export const libraryFiles = (): LibraryFiles => JSON.parse(readFileSync(join(LIBRARY, 'files.json'), 'utf8')) as LibraryFiles;

/** Any page may load it. A service worker from it may stand for a whole site (Service Workers, section 3.1.7). */
const open: RequestHandler = (_request, response, next) => {
  response.set('Access-Control-Allow-Origin', '*').set('Cross-Origin-Resource-Policy', 'cross-origin').set('Service-Worker-Allowed', '/');
  next();
};

export function serveLibrary(): Router {
  const router = Router();
  router.use(open);
  router.use('/:version', (request, response, next) => {
    if (!/^\d+\.\d+\.\d+$/.test(request.params.version)) return next();
    const { version } = libraryFiles();
    if (request.params.version !== version)
      return void response
        .status(404)
        .type('text')
        .send(`This service has version ${version} of the library: /client/${version}${request.path}\n`);
    express.static(LIBRARY, { index: false, immutable: true, maxAge: '1y' })(request, response, next);
  });
  router.use(
    express.static(LIBRARY, {
      index: false,
      cacheControl: false,
      setHeaders: (response) => void response.set('Cache-Control', 'public, max-age=300'),
    }),
  );
  router.use(
    (_request, response) =>
      void response.status(404).type('text').send('No such file of the client library. /client/files.json lists them.\n'),
  );
  return router;
}
