/** The sign-in page on a host of its own, in the team's look, with sign-up. */
import { request as httpRequest } from 'node:http';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { formOf } from './pageBrowser.js';
import { freePort } from './ports.js';
import { eventually, makeApp, PASSWORD, startTestService, type TestApp, type TestService } from './support.js';

const RETURN = 'quillfell://signed-in';
const CHALLENGE = 'E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM';
const PICTURE = `data:image/png;base64,${Buffer.from('made-up picture').toString('base64')}`;
let test: TestService;
let app: TestApp;
let port: number;
let host: string;

beforeAll(async () => {
  port = await freePort();
  test = await startTestService(inject('databaseUrl'), { port, signInHosts: `http://{environment}.{app}.localhost:${port}` });
  app = await makeApp(test, 'quillfell-hiker');
  host = `dev.quillfell-hiker.localhost:${port}`;
  await rules({ redirects: { 'hiker-ios': [RETURN] } });
});
afterAll(() => test.stop());
const rules = (body: object) => test.owner.call(operations.accounts.changeRules, { params: app.dev.params, body });

type Reply = { status: number; location: string; cookie: string; policy: string; type: string; html: string };
/** A call to a host name that only a browser would resolve to this machine (RFC 6761 section 6.3). */
function call(
  path: string,
  { at = host, form, cookie = '' }: { at?: string; form?: Record<string, string>; cookie?: string } = {},
): Promise<Reply> {
  const body = form && new URLSearchParams(form).toString();
  return new Promise((resolve, reject) => {
    const headers = {
      host: at,
      cookie,
      ...(body ? { 'content-type': 'application/x-www-form-urlencoded', 'content-length': body.length } : {}),
    };
    const call = httpRequest({ host: '127.0.0.1', port, path, method: body ? 'POST' : 'GET', headers }, (reply) => {
      const parts: Buffer[] = [];
      reply.on('data', (part) => parts.push(part));
      reply.on('end', () =>
        resolve({
          status: reply.statusCode ?? 0,
          location: reply.headers.location ?? '',
          cookie: String(reply.headers['set-cookie'] ?? '').split(';')[0] ?? '',
          policy: String(reply.headers['content-security-policy'] ?? ''),
          type: String(reply.headers['content-type'] ?? ''),
          html: Buffer.concat(parts).toString('utf8'),
        }),
      );
    });
    call.once('error', reject);
    call.end(body);
  });
}
const BASE = '/identity/quillfell-hiker/dev';
const ASKED = new URLSearchParams({
  client_id: 'hiker-ios',
  redirect_uri: RETURN,
  response_type: 'code',
  scope: 'openid',
  code_challenge: CHALLENGE,
  code_challenge_method: 'S256',
});
const open = () => call(`${BASE}/authorize?${ASKED}`);
/** A browser that sends the first form of a page with other fields. */
const send = ({ html, cookie }: Pick<Reply, 'html' | 'cookie'>, fields: Record<string, string>) =>
  call(`${BASE}/authorize`, { form: { ...formOf(html).fields, ...fields }, cookie });

describe('the host of an environment’s page', () => {
  it('is where apps are sent, and the page at the service’s own address leads there', async () => {
    const metadata = (await (await fetch(`${test.address}${BASE}/.well-known/openid-configuration`)).json()) as Record<string, string>;
    expect(metadata.authorization_endpoint).toBe(`http://${host}${BASE}/authorize`);
    expect(metadata.token_endpoint).toBe(`${test.address}${BASE}/token`);
    const there = await call(`${BASE}/authorize?${ASKED}`, { at: `127.0.0.1:${port}` });
    expect([there.status, there.location]).toEqual([303, `http://${host}${BASE}/authorize?${ASKED}`]);
    expect((await open()).html).toContain('Sign in to quillfell-hiker');
  });

  it.each(['/', '/app/v1/users/me', '/manage/v1/apps', '/healthz', '/docs', '/identity/quillfell-hiker/live/authorize'])(
    'has no %s',
    async (path) => {
      expect(await call(path)).toMatchObject({
        status: 404,
        html: expect.stringContaining('has the sign-in page of quillfell-hiker/dev, and nothing else'),
      });
    },
  );

  it('names the origins that may use its passkeys, at its root', async () => {
    await rules({ passkeyOrigins: ['https://huts.quillfell.example'] });
    expect(JSON.parse((await call('/.well-known/webauthn')).html)).toEqual({ origins: ['https://huts.quillfell.example'] });
    await rules({ passkeyOrigins: [] });
  });
});

describe('the page', () => {
  it('has the team’s name, colour and picture', async () => {
    const changed = await test.owner.call(operations.identity.changePage, {
      params: app.dev.params,
      body: { name: 'Quillfell Huts', colour: '#f2c14e', picture: PICTURE },
    });
    expect(changed).toEqual({ name: 'Quillfell Huts', colour: '#f2c14e', hasPicture: true, address: `http://${host}${BASE}` });
    const { html } = await open();
    expect(html).toContain('Sign in to Quillfell Huts');
    // Dark words on a light colour: they can be read.
    expect(html).toContain('--accent:#f2c14e;--on:#000000');
    const picture = await call(/<img src="([^"]+)"/.exec(html)?.[1] as string);
    expect([picture.type, picture.html]).toEqual(['image/png', 'made-up picture']);
    const svg = { params: app.dev.params, body: { picture: 'data:image/svg+xml;base64,AAAA' } };
    await expect(test.owner.call(operations.identity.changePage, svg)).rejects.toMatchObject({ problem: 'invalid-input' });
  });

  it('has no script, but one for passkeys', async () => {
    const first = await open();
    expect([first.policy.includes('script-src'), first.html.includes('<script')]).toEqual([false, false]);
    const asked = await send(first, { step: 'ask-passkey' });
    expect(asked.policy).toMatch(/script-src 'sha256-[^']+';/);
    const refused = await send({ ...asked, cookie: first.cookie }, { passkey: '{}' });
    expect([refused.status, refused.html.includes('The passkey was not accepted.')]).toEqual([400, true]);
  });

  it('lets people make an account, who accept the terms', async () => {
    await rules({ terms: '2026-05' });
    const first = await open();
    const form = await send(first, { step: 'ask-sign-up' });
    expect(form.html).toContain('I accept the terms (2026-05).');
    const page = { html: form.html, cookie: first.cookie };
    const fields = { step: 'sign-up', email: 'Lise@hikers.example', name: 'Lise Moor', password: PASSWORD, terms: '2026-05' };
    expect((await send(page, { ...fields, terms: '' })).html).toContain('No account can be created with this.');
    expect((await send(page, { ...fields, password: '12345678' })).html).toContain('harder to guess');
    expect((await send(page, fields)).location).toMatch(/^quillfell:\/\/signed-in\?code=/);
    const { items } = await test.owner.call(operations.users.list, {
      params: app.dev.params,
      query: { filter: "email = 'lise@hikers.example'" },
    });
    expect(items).toMatchObject([{ name: 'Lise Moor', terms: '2026-05' }]);
    await rules({ terms: null });
  });

  it('says the same of a new address and of one that has an account, where confirming comes first', async () => {
    await rules({ confirm: 'first' });
    const signUp = async (email: string) => {
      const first = await open();
      const form = await send(first, { step: 'ask-sign-up' });
      const sent = await send({ html: form.html, cookie: first.cookie }, { step: 'sign-up', email, name: '', password: PASSWORD });
      return sent.html.replaceAll(email, '…').replace(/name="request" value="[^"]*"/g, '');
    };
    const [known, unknown] = [await signUp('lise@hikers.example'), await signUp('orm@hikers.example')];
    expect(known).toContain('A mail is on its way to');
    expect(known).toBe(unknown);
    await eventually(async () => {
      const { items } = await test.owner.call(operations.accounts.outbox, { params: app.dev.params });
      return items.some(({ mail, to }) => mail === 'address-taken' && to === 'lise@hikers.example');
    });
    await rules({ confirm: 'never' });
  });

  it('offers no sign-up where nobody may', async () => {
    await rules({ signUp: 'invited' });
    expect((await open()).html).not.toContain('Create an account');
    await rules({ signUp: 'open' });
  });
});
