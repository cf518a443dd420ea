/** A message to a webhook: JSON, signed by RFC 9421 with the digest of RFC 9530. */
import { createHash, createHmac } from 'node:crypto';
import { signatureBase, signatureParameters } from '@orchard/core';
import { Agent, request } from 'undici';
import { lookupPublic } from '../../platform/http/publicHosts.js';
import type { Platform } from '../../platform/platform.js';

const ANSWER_WITHIN_MS = 10_000;
const COMPONENTS = ['@method', '@target-uri', 'content-type', 'content-digest'];

export type WebhookOutcome = { status: number | null; failure: string | null };

export class Webhooks {
  readonly #agent: Agent;

  constructor(private readonly parts: Pick<Platform, 'config' | 'now'>) {
    // Origins the settings name may be private.
    const trusted = new Set(parts.config.pushOrigins.filter((origin) => /^https?:/.test(origin)).map((origin) => new URL(origin).hostname));
    this.#agent = new Agent({
      headersTimeout: ANSWER_WITHIN_MS,
      bodyTimeout: ANSWER_WITHIN_MS,
      connect: { timeout: ANSWER_WITHIN_MS, lookup: (hostname, options, callback) => lookupPublic(hostname, options, trusted, callback) },
    });
  }

  /** Sends once. A redirect is not followed: it could lead anywhere. */
  async send(url: string, keyId: string, secret: string, message: object): Promise<WebhookOutcome> {
    const body = JSON.stringify(message);
    try {
      const reply = await request(url, {
        method: 'POST',
        dispatcher: this.#agent,
        headers: this.#headers(url, keyId, secret, body),
        body,
        signal: AbortSignal.timeout(ANSWER_WITHIN_MS),
      });
      await reply.body.dump();
      const status = reply.statusCode;
      if (status >= 200 && status < 300) return { status, failure: null };
      const where = status >= 300 && status < 400 ? ' Redirects are not followed: enter the address it leads to.' : '';
      return { status, failure: `It answered ${status}.${where}` };
    } catch (error) {
      return { status: null, failure: reasonOf(error as Error & { code?: string }) };
    }
  }

  #headers(url: string, keyId: string, secret: string, body: string): Record<string, string> {
    // RFC 9530 section 2.
    const digest = `sha-256=:${createHash('sha256').update(body).digest('base64')}:`;
    const headers = { 'content-type': 'application/json', 'content-digest': digest };
    const parameters = signatureParameters(COMPONENTS, Math.floor(this.parts.now() / 1000), keyId);
    const base = signatureBase({ method: 'POST', url, headers }, COMPONENTS, parameters);
    // RFC 9421 section 3.3.3.
    const signature = createHmac('sha256', secret).update(base).digest('base64');
    return { ...headers, 'signature-input': `sig1=${parameters}`, signature: `sig1=:${signature}:` };
  }

  close(): Promise<void> {
    return this.#agent.close();
  }
}

function reasonOf({ name, code, message }: Error & { code?: string }): string {
  if (name === 'TimeoutError' || code === 'UND_ERR_HEADERS_TIMEOUT') return `It did not answer within ${ANSWER_WITHIN_MS / 1000} s.`;
  return `It cannot be reached: ${message || code}.`;
}
