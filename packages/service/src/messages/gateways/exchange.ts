/** What went out to a network and what came back, for the list of requests and the log: without addresses, tokens and credentials. */
import { maskSecrets } from '@orchard/core';
import type { Exchange, ExchangeDetails } from '../../platform/ports.js';
import { originOf } from './discretion.js';
import type { HttpExchange, Outcome, Target } from './sender.js';
import type { GatewayRow } from './store.js';

/** Most of a body, in characters. */
const BODY = 8_000;
const HEADER = 400;
const CREDENTIALS = /^(authorization|cookie|set-cookie|crypto-key|x-api-key)$/i;

/**
 * @param exchange none: the gateway does not speak HTTP, or nothing went out
 * @param target whose address is masked wherever it stands
 */
export function exchangeDetails(row: GatewayRow, outcome: Outcome, exchange: HttpExchange | undefined, target: Target): ExchangeDetails {
  const mask = maskerFor(target);
  if (!exchange)
    return {
      method: target.endpoint ? 'POST' : row.kind.toUpperCase().slice(0, 7),
      address: target.endpoint ? hiddenPath(target.endpoint) : (originOf(row.kind, row.settings) ?? row.kind),
      headers: null,
      bodies: { request: null, response: outcome.said ? mask(outcome.said) : null },
    };
  const { method, url, headers, body, answer } = exchange;
  return {
    method,
    address: target.endpoint ? hiddenPath(url.href) : mask(url.href),
    headers: { request: headersOf(headers, mask), response: headersOf(answer?.headers ?? {}, mask) },
    bodies: {
      request: typeof body === 'number' ? `${body} bytes, encrypted` : mask(body).slice(0, BODY),
      response: answer?.text ? mask(answer.text).slice(0, BODY) : null,
    },
  };
}

/** The path of a web push subscription is what entitles to send to it (RFC 8030 section 8.3). */
const hiddenPath = (address: string): string => `${new URL(address).origin}/…`;

function headersOf(headers: Record<string, unknown>, mask: (text: string) => string): Record<string, string> {
  const given = Object.entries(headers).filter(([name, value]) => value !== undefined && !name.startsWith(':'));
  return Object.fromEntries(given.map(([name, value]) => [name, CREDENTIALS.test(name) ? '…' : mask(String(value)).slice(0, HEADER)]));
}

/** Leaves the last characters of an address, by which two can be told apart. */
function maskerFor({ target, token, deviceId }: Target & { deviceId?: string | null }): (text: string) => string {
  const hidden = [token, deviceId === target ? null : target, target.startsWith('+') ? target.slice(1) : null];
  const replaced = hidden.filter((one): one is string => Boolean(one && one.length > 5));
  return (text) => maskSecrets(replaced.reduce((masked, one) => masked.split(one).join(`…${one.slice(-3)}`), text));
}

/** A status as HTTP would give it, for gateways that do not speak HTTP too: 0 without a response. */
export function statusOf({ kind, answer }: Outcome, speaksHttp: boolean): number {
  if (speaksHttp) return answer ?? (kind === 'refused' ? 422 : 0);
  if (kind === 'accepted') return 200;
  return kind === 'later' ? (answer === null ? 0 : 503) : 422;
}

/** Why a message did not go, as a word of the list in `Exchange`; null for an accepted one. */
export function problemOf(outcome: Outcome): Exchange['problem'] {
  switch (outcome.kind) {
    case 'accepted':
      return null;
    case 'gone':
      return 'address-gone';
    case 'refused':
      return 'message-refused';
    case 'later':
      return outcome.credentials ? 'credentials-refused' : outcome.answer === null ? 'unreachable' : 'try-later';
  }
}
