/** Leaving for the environment's sign-in page and coming back; loaded when an app does so. */
import type { User } from '@orchard/contract';
import { Problem } from './problem.js';
import type { Tokens } from './session.js';
import type { Transport } from './transport.js';

/** What a page gave back that the app had opened to sign somebody in. */
export type Returned = { user: User } | { error: string; detail: string } | null;

export type SignInPage = {
  /**
   * Leaves for the environment's sign-in page, with all ways that are set up (RFC 6749 with RFC 7636). The app goes on with
   * {@link SignInPage.returned} when it is opened at `redirectUri`.
   */
  openSignInPage: (redirectUri?: string, options?: { way?: string; open?: (address: string) => void }) => Promise<void>;
  /** What came back from the sign-in page; null where the app was not opened by it. */
  returned: (address?: string) => Promise<Returned>;
};

/** RFC 6749 sections 5.1 and 5.2. */
type TokenAnswer = { access_token: string; expires_in: number; refresh_token: string; error?: string; error_description?: string };

const base64url = (bytes: ArrayBuffer | Uint8Array): string =>
  btoa(String.fromCharCode(...new Uint8Array(bytes)))
    .replace(/\+/g, '-')
    .replace(/\//g, '_')
    .replace(/=+$/, '');
const random = () => base64url(crypto.getRandomValues(new Uint8Array(32)));

/** Authorization code with PKCE, state checked. */
export function signInPage(
  address: string,
  key: string,
  transport: Pick<Transport, 'call'>,
  begin: (tokens: Tokens) => Promise<User>,
): SignInPage {
  const name = `orchard:${key.slice(-6)}:page`;
  const kept = () => (globalThis as { sessionStorage?: globalThis.Storage }).sessionStorage;
  const issuerOf = async () => {
    const { app, environment, client } = await transport.call('clients.connection', {});
    const metadata = await fetch(`${address}/identity/${app}/${environment}/.well-known/openid-configuration`);
    return { client, ...((await metadata.json()) as { authorization_endpoint: string; token_endpoint: string }) };
  };
  return {
    openSignInPage: async (
      redirectUri = location.href.split(/[?#]/)[0] as string,
      { way, open = (to: string) => location.assign(to) } = {},
    ) => {
      const [verifier, state] = [random(), random()];
      const { authorization_endpoint, client } = await issuerOf();
      kept()?.setItem(name, JSON.stringify({ verifier, state, redirectUri }));
      const challenge = base64url(await crypto.subtle.digest('SHA-256', new TextEncoder().encode(verifier)));
      const query = new URLSearchParams({
        ...{ response_type: 'code', client_id: client, redirect_uri: redirectUri, scope: 'openid offline_access' },
        ...{ state, code_challenge: challenge, code_challenge_method: 'S256' },
        ...(way ? { way } : {}),
      });
      open(`${authorization_endpoint}?${query}`);
    },
    returned: async (here = location.href) => {
      const given = new URL(here).searchParams;
      const began = JSON.parse(kept()?.getItem(name) ?? 'null') as { verifier: string; state: string; redirectUri: string } | null;
      // RFC 6749 section 10.12: an answer that this tab did not ask for is nobody's.
      if (!began || given.get('state') !== began.state) return null;
      kept()?.removeItem(name);
      const code = given.get('code');
      if (code === null) return { error: given.get('error') ?? 'unknown', detail: given.get('error_description') ?? '' };
      const { token_endpoint, client } = await issuerOf();
      const body = new URLSearchParams({
        ...{ grant_type: 'authorization_code', code, redirect_uri: began.redirectUri, client_id: client, code_verifier: began.verifier },
      });
      const reply = await fetch(token_endpoint, { method: 'POST', body });
      const answer = (await reply.json()) as TokenAnswer;
      if (!reply.ok) return { error: answer.error ?? 'unknown', detail: answer.error_description ?? '' };
      const until = (seconds: number) => new Date(Date.now() + seconds * 1000).toISOString();
      const tokens = {
        accessToken: answer.access_token,
        accessTokenExpiresAt: until(answer.expires_in),
        refreshToken: answer.refresh_token,
        refreshTokenExpiresAt: until(30 * 86_400),
      };
      const me = await fetch(`${address}/app/v1/users/me`, {
        headers: { 'orchard-key': key, authorization: `Bearer ${tokens.accessToken}` },
      });
      const user = await me.json();
      if (!me.ok) throw new Problem(user);
      return { user: await begin({ ...tokens, user: user as User }) };
    },
  };
}
