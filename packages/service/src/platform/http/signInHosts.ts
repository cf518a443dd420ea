/** What the hosts of sign-in pages serve: these pages, and neither console nor API. */
import { Problem } from '@orchard/contract';
import type { RequestHandler } from 'express';
import type { Platform } from '../platform.js';

export function keepSignInHosts({ signInHosts }: Pick<Platform, 'signInHosts'>): RequestHandler {
  return (request, response, next) => {
    const place = signInHosts.placeOf(request.headers.host ?? '');
    if (!place) return next();
    const base = `/identity/${place.app}/${place.environment}`;
    // Browsers ask for it by themselves.
    if (request.path === '/favicon.ico') return void response.status(204).end();
    // WebAuthn Level 3 section 5.11: browsers look for related origins at the root of the host.
    if (request.path === '/.well-known/webauthn') request.url = `${base}${request.url}`;
    else if (!['authorize', 'ways/', 'page/'].some((part) => request.path.startsWith(`${base}/${part}`))) {
      const problem = new Problem('not-found', `This host has the sign-in page of ${place.app}/${place.environment}, and nothing else.`);
      return void response.status(problem.status).type('application/problem+json').send(JSON.stringify(problem.toDocument()));
    }
    next();
  };
}
