/** A browser without script, as far as a sign-in page needs one: it keeps the cookies of each path, and follows nothing by itself. */
import * as client from 'openid-client';

export type Opened = { status: number; html: string; location: string };

export class PageBrowser {
  readonly #cookies = new Map<string, string>();

  async open(url: URL | string, init: RequestInit = {}, withCookies = true): Promise<Opened> {
    const { pathname } = new URL(url);
    const cookie = withCookies ? [...this.#cookies].filter(([path]) => pathname.startsWith(path)).map(([, value]) => value) : [];
    const reply = await fetch(url, { redirect: 'manual', ...init, headers: { cookie: cookie.join('; ') } });
    const [, value, path] = /^([^;]+); Path=([^;]+)/.exec(reply.headers.get('set-cookie') ?? '') ?? [];
    if (value && path) this.#cookies.set(path, value);
    return { status: reply.status, html: await reply.text(), location: reply.headers.get('location') ?? '' };
  }

  post(url: URL | string, fields: Record<string, string>, withCookies = true): Promise<Opened> {
    return this.open(url, { method: 'POST', body: new URLSearchParams(fields) }, withCookies);
  }
}

/** The hidden fields and the address of a page's first form. */
export function formOf(html: string): { action: string; fields: Record<string, string> } {
  const plain = (text: string) => text.replace(/&#(\d+);/g, (_, code: string) => String.fromCharCode(Number(code)));
  const form = /<form[^>]*>[\s\S]*?<\/form>/.exec(html)?.[0] ?? '';
  const fields = [...form.matchAll(/<input type="hidden" name="([^"]*)" value="([^"]*)"/g)].map(([, name = '', value = '']) => [
    name,
    plain(value),
  ]);
  return { action: plain(/action="([^"]*)"/.exec(form)?.[1] ?? ''), fields: Object.fromEntries(fields) };
}

/** An app that opens the sign-in page of an issuer, and exchanges the code that it gets. */
export class PageApp {
  readonly #verifier = client.randomPKCECodeVerifier();

  constructor(
    readonly issuer: URL,
    private readonly of: { clientId: string; redirectUri: string },
  ) {}

  async address(): Promise<URL> {
    const options = { execute: [client.allowInsecureRequests] };
    const config = await client.discovery(this.issuer, this.of.clientId, undefined, client.None(), options);
    return client.buildAuthorizationUrl(config, {
      redirect_uri: this.of.redirectUri,
      scope: 'openid email profile',
      code_challenge: await client.calculatePKCECodeChallenge(this.#verifier),
      code_challenge_method: 'S256',
      state: 's',
    });
  }

  async open(browser = new PageBrowser()): Promise<{ browser: PageBrowser; html: string; request: string }> {
    const { html } = await browser.open(await this.address());
    return { browser, html, request: formOf(html).fields.request ?? '' };
  }

  /** Of an address that the page has led back to. */
  async tokens(location: string): Promise<{ access_token: string; error?: string }> {
    const form = {
      grant_type: 'authorization_code',
      client_id: this.of.clientId,
      redirect_uri: this.of.redirectUri,
      code: new URL(location).searchParams.get('code') ?? '',
      code_verifier: this.#verifier,
    };
    const reply = await fetch(`${this.issuer}/token`, { method: 'POST', body: new URLSearchParams(form) });
    return (await reply.json()) as { access_token: string };
  }
}
