/** What an app asks of the sign-in page: read, checked, and answered at its address. */
import type { Environment } from '../../platform/call.js';
import { entryRules } from '../users/entry.js';
import type { Asked } from './authorizationStore.js';

/** RFC 6749 section 4.1.2.1, and OpenID Connect Core section 3.1.2.6. */
export type AuthorizeError = 'invalid_request' | 'unsupported_response_type' | 'invalid_scope' | 'login_required' | 'request_not_supported';
export type Read =
  /** Without an address that can be trusted, the person is told and nobody else. */
  | { is: 'untrusted'; words: string }
  | { is: 'refused'; redirectUri: string; state: string | null; error: AuthorizeError; words: string }
  | { is: 'asked'; asked: Asked; languages: string[] };

const KNOWN_SCOPES = new Set(['openid', 'email', 'profile', 'offline_access']);

export async function readAuthorization(environment: Environment, query: Record<string, unknown>): Promise<Read> {
  const { redirects } = await entryRules.read(environment);
  const one = (name: string): string | null => (typeof query[name] === 'string' ? query[name] : null);
  const repeated = Object.entries(query).find(([, value]) => typeof value !== 'string')?.[0];
  const client = one('client_id');
  const redirectUri = one('redirect_uri');
  const allowed = client !== null && Object.hasOwn(redirects, client) ? (redirects[client] ?? []) : [];
  const at = `${environment.app}/${environment.name}`;
  if (client === null || !Object.hasOwn(redirects, client))
    return {
      is: 'untrusted',
      words: `${client === null ? 'client_id is missing' : `No client ${client} of ${at} has addresses to return to`}. Add them to \`redirects\` with \`orchard sign-up set\`.`,
    };
  if (redirectUri === null || !allowed.some((address) => isSameAddress(address, redirectUri)))
    return {
      is: 'untrusted',
      words: `${redirectUri === null ? 'redirect_uri is missing' : `The address ${redirectUri} is not among those of client ${client}`}: ${allowed.join(', ') || 'it has none'}.`,
    };
  const state = one('state');
  const refused = (error: AuthorizeError, words: string): Read => ({ is: 'refused', redirectUri, state, error, words });
  if (repeated) return refused('invalid_request', `${repeated} comes more than once.`);
  if (one('request') || one('request_uri')) return refused('request_not_supported', 'Request objects are not supported.');
  if (one('response_type') !== 'code') return refused('unsupported_response_type', 'response_type is code.');
  const scopes = (one('scope') ?? '').split(' ').filter(Boolean);
  if (!scopes.includes('openid')) return refused('invalid_scope', 'scope contains openid.');
  const challenge = one('code_challenge') ?? '';
  if (one('code_challenge_method') !== 'S256' || !/^[A-Za-z0-9_-]{43}$/.test(challenge))
    return refused('invalid_request', 'code_challenge of RFC 7636 with the method S256 is missing.');
  if (one('prompt')?.split(' ').includes('none')) return refused('login_required', 'Somebody has to sign in.');
  const nonce = one('nonce');
  if ((state?.length ?? 0) > 500 || (nonce?.length ?? 0) > 200) return refused('invalid_request', 'state or nonce is too long.');
  const scope = scopes.filter((name) => KNOWN_SCOPES.has(name)).join(' ');
  return {
    is: 'asked',
    asked: { client, redirectUri, challenge, scope, state, nonce },
    languages: (one('ui_locales') ?? '').split(' ').filter(Boolean),
  };
}

/** As it was registered; of a loopback address any port, since an app takes a free one (RFC 8252 section 7.3). */
export function isSameAddress(registered: string, given: string): boolean {
  if (registered === given) return true;
  const [a, b] = [parsed(registered), parsed(given)];
  const isLoopback = a?.protocol === 'http:' && ['127.0.0.1', '[::1]'].includes(a.hostname);
  if (!isLoopback || !a || !b) return false;
  return (
    a.protocol === b.protocol && a.hostname === b.hostname && a.pathname === b.pathname && a.search === b.search && !b.hash && !b.username
  );
}

const parsed = (address: string): URL | null => (URL.canParse(address) ? new URL(address) : null);

/** The address with parameters of the response. `iss` says who answered (RFC 9207). */
export function answerAddress(redirectUri: string, issuer: string, state: string | null, members: Record<string, string>): string {
  const parameters = new URLSearchParams({ ...members, ...(state === null ? {} : { state }), iss: issuer });
  return `${redirectUri}${redirectUri.includes('?') ? '&' : '?'}${parameters}`;
}

/** Where a form may lead to, for a content security policy: the origin, or the scheme of an app of its own. */
export function sourceOf(redirectUri: string): string {
  const url = parsed(redirectUri);
  return url && (url.protocol === 'https:' || url.protocol === 'http:') ? url.origin : `${redirectUri.split(':')[0]}:`;
}
