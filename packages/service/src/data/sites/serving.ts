/** What the hosts of sites serve: the files of a version, and nothing else of the service. */
import { siteAnswer, type SiteContent, type SiteFile, siteHeaders, isHashedName } from '@orchard/core';
import type { Request, Response } from 'express';
import { LRUCache } from 'lru-cache';
import send from 'send';
import type { Contents } from '../files/contents.js';
import type { Found, SiteHosts } from './hosts.js';
import { REPORTS_PATH, takeReports } from './reporting.js';
import { type Load, readFiles, type SiteFileMap } from './store.js';
import type { Parts } from './parts.js';

const HOUR_MS = 3_600_000;
const MOST_PAGE = 200;
const PLAIN_404 =
  '<!doctype html><html lang="en"><meta charset="utf-8"><title>Not found</title><h1>Not found</h1><p>This site has no page at this address.</p></html>';

export class SiteServing {
  /** The files of versions never change. */
  readonly #files = new LRUCache<string, SiteFileMap>({ max: 200 });

  constructor(
    private readonly parts: Parts,
    private readonly contents: Contents,
    private readonly hosts: SiteHosts,
    private readonly count: (found: Found, load: Load) => void,
  ) {}

  /** @returns whether the host is one of a site */
  async serve(request: Request, response: Response): Promise<boolean> {
    const host = (request.headers.host ?? '').toLowerCase();
    const found = await this.hosts.find(host);
    if (!found) {
      if (!this.hosts.isOfSites(host)) return false;
      answerPlain(response, 404, 'There is no site at this address.');
      return true;
    }
    await this.#answer(request, response, found);
    return true;
  }

  async #answer(request: Request, response: Response, found: Found): Promise<void> {
    if (request.method === 'POST' && request.path === REPORTS_PATH) return takeReports(this.parts, request, response, found);
    if (request.method !== 'GET' && request.method !== 'HEAD') {
      response.setHeader('Allow', 'GET, HEAD');
      return answerPlain(response, 405, 'A site answers GET and HEAD. Send calls of the API to the address of the service.');
    }
    const path = decoded(request.path);
    const version = found.preview ?? found.site.version;
    const files = version > 0 ? await this.#version(found, version) : null;
    if (path === null || !files) {
      this.#note(request, found, request.path, 404);
      return answerPlain(
        response,
        404,
        files ? 'The address cannot be read.' : 'This site has no version in force yet. `orchard site push` makes one.',
      );
    }
    const answer = siteAnswer((file) => files.has(file), found.site, path);
    if ('to' in answer) {
      this.#note(request, found, path, answer.status);
      response.statusCode = answer.status;
      response.setHeader('Location', answer.to.startsWith('/') ? encodeURI(answer.to) : answer.to);
      response.end();
      return;
    }
    this.#note(request, found, path, answer.status);
    if (!('file' in answer)) return answerPlain(response, 404, null);
    await this.#send(request, response, found, { path, file: answer.file, status: answer.status, of: files.get(answer.file) as SiteFile });
  }

  async #version({ environment, site }: Found, version: number): Promise<SiteFileMap | null> {
    const key = `${environment.id} ${site.name} ${version}`;
    const known = this.#files.get(key);
    if (known) return known;
    const files = await readFiles(environment, site.name, version);
    if (files) this.#files.set(key, files);
    return files;
  }

  #send(
    request: Request,
    response: Response,
    { environment, site, preview }: Found,
    { path, file, status, of }: { path: string; file: string; status: number; of: SiteFile },
  ): Promise<void> {
    const isPage = of.type === 'text/html';
    const [coding, content] = packedFor(request, of);
    response.setHeader('Content-Type', /^text\/|javascript|json|xml/.test(of.type) ? `${of.type}; charset=utf-8` : of.type);
    response.setHeader('ETag', `"${content.digest}"`);
    // Pages name scripts of their own version, so they are asked for anew; a name with a hash never changes.
    response.setHeader(
      'Cache-Control',
      isHashedName(file) ? 'public, max-age=31536000, immutable' : isPage ? 'no-cache' : 'public, max-age=300',
    );
    response.setHeader('X-Content-Type-Options', 'nosniff');
    if (of.packed) response.setHeader('Vary', 'Accept-Encoding');
    if (coding) response.setHeader('Content-Encoding', coding);
    // Browsers hold the Reporting API for addresses with TLS alone.
    if (isPage && request.secure) response.setHeader('Reporting-Endpoints', `default="${REPORTS_PATH}"`);
    if (preview !== null) response.setHeader('X-Robots-Tag', 'noindex');
    for (const [name, value] of siteHeaders(site.headers, path)) response.setHeader(name, withReports(name, value, request.secure));
    response.statusCode = status;
    return new Promise((resolve) => {
      const stream = send(request, encodeURI(this.contents.bytes.place(environment.id, content.digest)), {
        etag: false,
        lastModified: false,
        cacheControl: false,
        // Ranges of packed bytes would be of no use.
        acceptRanges: coding === null && status === 200,
        dotfiles: 'allow',
        index: false,
      });
      stream.on('error', (error: Error & { status?: number }) => {
        if (error.status === 404) void this.contents.noteVerified(environment, content.digest, false);
        for (const name of ['Content-Encoding', 'Cache-Control', 'ETag']) response.removeHeader(name);
        answerPlain(response, error.status === 416 ? 416 : 500, 'The file cannot be read.');
        resolve();
      });
      response.once('close', () => resolve());
      stream.pipe(response);
    });
  }

  /** Counts loads of pages, not of what pages bring along. */
  #note({ method, headers }: Request, found: Found, path: string, status: number): void {
    const isPage =
      headers['sec-fetch-dest'] === 'document' || (headers['sec-fetch-dest'] === undefined && headers.accept?.includes('text/html'));
    if (method !== 'GET' || !isPage || found.preview !== null) return;
    const at = this.parts.now();
    this.count(found, {
      site: found.site.name,
      hour: new Date(at - (at % HOUR_MS)),
      page: path.slice(0, MOST_PAGE),
      status,
      at: new Date(at),
    });
  }
}

/** Reports of what a policy refused come here, where the team's policy names no other place. */
const withReports = (name: string, value: string, isSecure: boolean): string =>
  name.startsWith('content-security-policy') && !/report-(to|uri)/.test(value)
    ? `${value};${isSecure ? ' report-to default;' : ''} report-uri ${REPORTS_PATH}`
    : value;

/** RFC 9110 section 12.5.3: the packed form that the caller takes, the smaller one first. */
function packedFor({ headers }: Request, file: SiteFile): [coding: 'br' | 'gzip' | null, content: SiteContent] {
  const accepted = headers['accept-encoding'];
  if (!file.packed || typeof accepted !== 'string' || headers.range !== undefined) return [null, file];
  for (const coding of ['br', 'gzip'] as const) {
    const content = file.packed[coding];
    if (content && new RegExp(`\\b${coding}\\b(?!\\s*;\\s*q=0(\\.0+)?\\b)`).test(accepted)) return [coding, content];
  }
  return [null, file];
}

function decoded(path: string): string | null {
  try {
    return decodeURIComponent(path);
  } catch {
    return null;
  }
}

function answerPlain(response: Response, status: number, words: string | null): void {
  if (response.headersSent) return void response.destroy();
  response.statusCode = status;
  response.setHeader('Content-Type', words === null ? 'text/html; charset=utf-8' : 'text/plain; charset=utf-8');
  response.setHeader('Cache-Control', 'no-store');
  response.end(words ?? PLAIN_404);
}
