/** A browser without script, as far as a sign-in page needs one: it keeps the cookies of each path, and follows nothing by itself. */
import * as client from 'openid-client';

export type Opened = { status: number; html: string; location: string };

export class PageBrowser {
  /** By host, name and path. */
  readonly #cookies = new Map<string, { host: string; path: string; text: string }>();

  async open(url: URL | string, init: RequestInit = {}, withCookies = true): Promise<Opened> {
    const { pathname, host } = new URL(url);
    const fits = (one: { host: string; path: string }) => withCookies && one.host === host && pathname.startsWith(one.path);
    const cookie = [...this.#cookies.values()].filter(fits).map(({ text }) => text);
    const reply = await fetch(url, { redirect: 'manual', ...init, headers: { ...init.headers, cookie: cookie.join('; ') } });
    for (const set of reply.headers.getSetCookie()) this.#keep(host, set);
    return { status: reply.status, html: await reply.text(), location: reply.headers.get('location') ?? '' };
  }

  #keep(host: string, set: string): void {
    const [text = ''] = set.split(';');
    const path = /; ?path=([^;]+)/i.exec(set)?.[1] ?? '/';
    const key = `${host} ${text.split('=')[0]} ${path}`;
    if (text.endsWith('=') || /expires=Thu, 01 Jan 1970/i.test(set)) this.#cookies.delete(key);
    else this.#cookies.set(key, { host, path, text });
  }

  /** A write of the console: JSON, with what proves that its own page makes it. */
  send(url: URL | string, body: object, csrf: string): Promise<Opened> {
    return this.open(url, {
      method: 'POST',
      body: JSON.stringify(body),
      headers: { 'content-type': 'application/json', 'orchard-csrf': csrf },
    });
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
