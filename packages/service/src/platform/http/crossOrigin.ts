/** Cross-origin calls (the CORS protocol of the Fetch standard) for the app API. */
import type { Request, Response } from 'express';

const EXPOSED =
  'Accept-Ranges, Content-Disposition, Content-Range, ETag, Link, Location, Orchard-Notice, Orchard-Request, Orchard-Support, Repr-Digest, Retry-After, traceparent, Tus-Resumable, Tus-Version, Tus-Extension, Tus-Max-Size, Upload-Expires, Upload-Length, Upload-Metadata, Upload-Offset';

/** What a web app asks of its issuer itself; the page on which people sign in is opened, not read. */
const ISSUER = /^\/identity\/[^/]+\/[^/]+\/(token|revoke|userinfo|jwks\.json|\.well-known\/)/;

/** The address of an upload or of a broadcast is used by the page that was given it. */
const GIVEN = /^\/(files\/[^/]+\/[^/]+\/upload|broadcasts\/[^/]+\/[^/]+\/ingest)\//;
/** Whose answers pages of other origins may read. */
const isOpen = (path: string): boolean => path.startsWith('/app/') || GIVEN.test(path) || ISSUER.test(path);

/** Lets the calling page read the response. The client's list of origins decides whether the call is executed. */
export function allowReading(request: Request, response: Response): void {
  const { origin } = request.headers;
  if (!origin || !isOpen(request.originalUrl)) return;
  response.setHeader('Access-Control-Allow-Origin', origin);
  response.setHeader('Access-Control-Expose-Headers', EXPOSED);
  response.setHeader('Vary', 'Origin');
}

/**
 * Answers a preflight. It carries no key, so it cannot be judged by client: every origin may ask, and the call
 * that follows is refused with a readable reason when its origin is not allowed. No cookies are involved.
 */
export function answerPreflight(request: Request, response: Response): void {
  allowReading(request, response);
  response.setHeader('Access-Control-Allow-Methods', 'GET, HEAD, POST, PUT, PATCH, DELETE');
  response.setHeader(
    'Access-Control-Allow-Headers',
    'Orchard-Key, Orchard-Device, Orchard-Device-Secret, Authorization, Content-Digest, Content-Type, If-Match, If-None-Match, If-Range, Idempotency-Key, Last-Event-ID, Range, traceparent, tracestate, Tus-Resumable, Upload-Length, Upload-Metadata, Upload-Offset, Upload-Defer-Length',
  );
  response.setHeader('Access-Control-Max-Age', '600');
  response.status(204).end();
}
