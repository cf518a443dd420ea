/** Bearer tokens for push networks: signed here (RFC 7519, ES256), or fetched by the JWT bearer grant (RFC 7523). */
import { createPrivateKey, type KeyObject } from 'node:crypto';
import type { JsonObject } from '@orchard/core';
import type { CompiledMapping, MappedToken } from '@orchard/core/messages';
import { SignJWT } from 'jose';
import { type Dispatcher, request } from 'undici';
import { KeptToken } from '../../platform/access/keptToken.js';
import type { ServiceAccount } from './credentials.js';

export interface BearerTokens {
  /** The current token, if it is available without waiting. */
  atHand(): string | null;
  /** The token to send now. @throws Error with the reason when none can be obtained */
  current(): Promise<string>;
  /** The network refused this token: the next call gets another. */
  forget(token: string): void;
}

/** Tokens signed with an uploaded key; the mapping has header and claims. */
export function signedTokens(mapping: CompiledMapping, key: KeyObject, values: JsonObject, now: () => number): BearerTokens {
  const { lifeS } = mapping.document.token as MappedToken;
  return new KeptToken(now, async () => {
    const issuedAtS = Math.floor(now() / 1000);
    const { header, claims } = mapping.tokenParts({ ...values, token: { issuedAtS, expiresAtS: issuedAtS + lifeS } });
    const token = await new SignJWT(claims).setProtectedHeader({ ...header, alg: 'ES256' }).sign(key);
    return { token, lifeMs: lifeS * 1000 };
  });
}

/** Tokens fetched from the network's token address. */
export function exchangedTokens(
  token: Extract<MappedToken, { by: 'exchanged' }>,
  account: ServiceAccount,
  dispatcher: Dispatcher,
  now: () => number,
): BearerTokens {
  const key = createPrivateKey(account.privateKey);
  const alg = key.asymmetricKeyType === 'ec' ? 'ES256' : 'RS256';
  return new KeptToken(now, async () => {
    const issuedAtS = Math.floor(now() / 1000);
    // RFC 7523 section 3: iss, sub, aud and exp; section 2.1 is the grant.
    const assertion = await new SignJWT(token.scope ? { scope: token.scope } : {})
      .setProtectedHeader({ alg, typ: 'JWT', ...(account.keyId ? { kid: account.keyId } : {}) })
      .setIssuer(account.account)
      .setSubject(account.account)
      .setAudience(account.tokenAddress)
      .setIssuedAt(issuedAtS)
      .setExpirationTime(issuedAtS + Math.min(token.lifeS, 3600))
      .sign(key);
    const reply = await request(account.tokenAddress, {
      method: 'POST',
      dispatcher,
      headers: { 'content-type': 'application/x-www-form-urlencoded', accept: 'application/json' },
      body: new URLSearchParams({ grant_type: 'urn:ietf:params:oauth:grant-type:jwt-bearer', assertion }).toString(),
    });
    const answer = (await reply.body.json().catch(() => ({}))) as {
      access_token?: string;
      expires_in?: number;
      error?: string;
      error_description?: string;
    };
    // RFC 6749 section 5.2.
    if (reply.statusCode !== 200 || !answer.access_token)
      throw new Error(
        `${new URL(account.tokenAddress).host} did not issue a token: ${reply.statusCode} ${answer.error ?? ''} ${answer.error_description ?? ''}`.trim(),
      );
    return { token: answer.access_token, lifeMs: (answer.expires_in ?? token.lifeS) * 1000 };
  });
}
