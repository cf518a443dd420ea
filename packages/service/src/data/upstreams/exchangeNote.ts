/** What went out to an upstream and what came back, for the list of requests: without credentials. */
import type { UpstreamDefinition } from '@orchard/contract';
import { maskSecrets } from '@orchard/core';
import type { Exchange } from '../../platform/ports.js';
import type { ExchangeFailed, Received, Sent } from './exchange.js';

const BODY_CHARS = 8_000;
const HEADER_CHARS = 400;
const CREDENTIALS = /^(authorization|cookie|set-cookie|.*(key|token|secret|password).*)$/i;

type Ended = { sent: Sent; received: Received | null; failure: ExchangeFailed | null; durationUs: number; trace: string | null };

export function exchangeOf(name: string, { identify }: Pick<UpstreamDefinition, 'identify'>, ended: Ended): Exchange {
  const { sent, received, failure, durationUs, trace } = ended;
  const status = received?.status ?? 0;
  // Its credential may stand in a header that does not say so.
  const own = identify.way === 'header' ? identify.header.toLowerCase() : 'authorization';
  return {
    gateway: `upstream ${name}`,
    failed: failure !== null || status >= 500,
    durationUs,
    status,
    problem: failure ? 'unreachable' : problemOf(status),
    reason: failure?.message ?? (status >= 400 ? `It answers ${status}.` : null),
    trace,
    deviceId: null,
    details: () => ({
      method: sent.method,
      address: maskSecrets(sent.url.href),
      headers: { request: hidden(sent.headers, own), response: hidden(received?.headers ?? {}, own) },
      bodies: {
        request: sent.body === null ? null : maskSecrets(sent.body).slice(0, BODY_CHARS),
        response: received ? maskSecrets(received.body.toString('utf8', 0, BODY_CHARS)) : null,
      },
    }),
  };
}

function problemOf(status: number): Exchange['problem'] {
  if (status === 401 || status === 403) return 'credentials-refused';
  return status >= 500 || status === 429 ? 'try-later' : null;
}

const hidden = (headers: Record<string, string>, own: string): Record<string, string> =>
  Object.fromEntries(
    Object.entries(headers).map(([name, value]) => [
      name,
      name === own || CREDENTIALS.test(name) ? '…' : maskSecrets(value).slice(0, HEADER_CHARS),
    ]),
  );
