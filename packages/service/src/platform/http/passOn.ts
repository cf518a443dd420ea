/** Passes calls on to the installation that an environment has moved to, until the team's name leads there. */
import { type IncomingMessage, request as requestPlain, type RequestOptions } from 'node:http';
import { request as requestSecure } from 'node:https';
import { Problem } from '@orchard/contract';
import type { Request, Response } from 'express';
import { deriveKey } from '../access/secrets.js';

/** RFC 9110 section 7.6.1: headers of one connection, which are not passed on. */
const OF_A_CONNECTION = [
  'connection',
  'keep-alive',
  'proxy-authenticate',
  'proxy-authorization',
  'proxy-connection',
  'te',
  'trailer',
  'transfer-encoding',
  'upgrade',
];
const CONNECT_MS = 10_000;

/** How an installation names itself in `Via` (RFC 9110 section 7.6.3). */
export const viaName = (secretKey: Buffer): string => `orchard-${deriveKey(secretKey, 'via').toString('hex', 0, 6)}`;

/**
 * Answers a call with what the other installation answers. A body that was read as JSON already is written again.
 * @param to the address of that installation
 * @param keepHost for sites, whose name says which one it is
 * @throws {Problem} busy where the body was consumed, moved-installation-away
 */
export async function passOn(request: Request, response: Response, to: string, via: string, keepHost = false): Promise<void> {
  if (String(request.headers.via ?? '').includes(via))
    throw new Problem(
      'moved-installation-away',
      `Two installations pass this call to each other. Move the environment back to one of them.`,
    );
  const again = bodyAgain(request);
  const headers = passedHeaders(request, via, again);
  if (!keepHost) headers.host = new URL(to).host;
  const answer = await send(request, new URL(request.originalUrl, to), { method: request.method, headers }, again).catch(() => {
    throw new Problem('moved-installation-away', undefined, { retryAfterS: 2 });
  });
  response.statusCode = answer.statusCode ?? 502;
  for (const [name, value] of Object.entries(answer.headers))
    if (value !== undefined && !OF_A_CONNECTION.includes(name)) response.setHeader(name, value);
  // A stream tells its readers at once that it is there.
  response.flushHeaders();
  answer.pipe(response);
  response.once('close', () => answer.destroy());
  answer.once('error', () => response.destroy());
}

/** The body of a call whose body was read; null for one that can be passed as it comes. @throws {Problem} busy */
function bodyAgain(request: Request): Buffer | null {
  if (!request.readableDidRead) return null;
  if (request.body !== undefined) return Buffer.from(JSON.stringify(request.body));
  throw new Problem('busy', 'The environment moved to another installation while this was sent. Send it again.', { retryAfterS: 1 });
}

function passedHeaders(request: Request, via: string, again: Buffer | null): Record<string, string | string[]> {
  const named = String(request.headers.connection ?? '')
    .toLowerCase()
    .split(/[\s,]+/);
  const headers = Object.fromEntries(
    Object.entries(request.headers).filter(([name]) => !OF_A_CONNECTION.includes(name) && !named.includes(name)),
  ) as Record<string, string | string[]>;
  if (again) {
    delete headers['content-encoding'];
    headers['content-length'] = String(again.length);
  }
  headers.via = [request.headers.via, `1.1 ${via}`].filter(Boolean).join(', ');
  headers['x-forwarded-for'] = [request.headers['x-forwarded-for'], request.socket.remoteAddress].filter(Boolean).join(', ');
  headers['x-forwarded-proto'] = request.protocol;
  return headers;
}

function send(from: Request, to: URL, options: RequestOptions, body: Buffer | null): Promise<IncomingMessage> {
  return new Promise((resolve, reject) => {
    const out = (to.protocol === 'https:' ? requestSecure : requestPlain)(to, options, resolve);
    const late = setTimeout(() => out.destroy(new Error('it does not answer')), CONNECT_MS);
    out.on('socket', (socket) => {
      if (!socket.connecting) return clearTimeout(late);
      socket.once('connect', () => clearTimeout(late));
    });
    out.once('error', (error) => {
      clearTimeout(late);
      reject(error);
    });
    from.once('aborted', () => out.destroy());
    if (body) out.end(body);
    else from.pipe(out);
  });
}
