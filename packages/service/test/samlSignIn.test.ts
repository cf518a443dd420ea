/** Signing in at a provider of SAML 2.0: a simulated one, which signs, encrypts, and does wrong on request. */
import { operations } from '@orchard/contract';
import {
  PROVIDER_PASSWORD,
  PROVIDER_PEOPLE,
  type ProviderPerson,
  type ResponseChanges,
  type SamlProvider,
  startSamlProvider,
} from '@orchard/simulators';
import { afterAll, afterEach, beforeAll, describe, expect, inject, it } from 'vitest';
import { formOf, PageApp, PageBrowser } from './pageBrowser.js';
import { eventually, makeApp, startTestService, type TestApp, type TestService } from './support.js';

const RETURN = 'quillfell://signed-in';
const [SIGNE, KENJI] = PROVIDER_PEOPLE as [ProviderPerson, ProviderPerson];
let test: TestService;
let app: TestApp;
let provider: SamlProvider;
let page: PageApp;
let base: string;
let metadata: string;

const put = (changes: object = {}) =>
  test.owner.call(operations.signInWays.put, {
    params: { ...app.dev.params, way: 'ridge' },
    body: {
      kind: 'saml',
      title: 'The ridge',
      metadata: provider.metadata(),
      emailProved: true,
      roles: { wardens: 'warden' },
      ...changes,
    } as never,
  });
const check = () => test.owner.call(operations.signInWays.check, { params: { ...app.dev.params, way: 'ridge' }, body: {} });

beforeAll(async () => {
  [test, provider] = await Promise.all([startTestService(inject('databaseUrl')), startSamlProvider()]);
  app = await makeApp(test, 'quillfell-hiker');
  base = `${test.address}/identity/quillfell-hiker/dev`;
  page = new PageApp(new URL(base), { clientId: 'hiker-ios', redirectUri: RETURN });
  await test.owner.call(operations.accounts.changeRules, { params: app.dev.params, body: { redirects: { 'hiker-ios': [RETURN] } } });
  const { metadataAddress } = await put();
  metadata = await (await fetch(metadataAddress as string)).text();
  provider.trust(metadata);
});
afterEach(async () => {
  provider.fault('none');
  await put();
});
afterAll(() => Promise.all([test.stop(), provider.stop()]));

/** From our page to the provider: what it is asked, and by whom. */
async function begin(browser = new PageBrowser()) {
  await page.open(browser);
  const there = await browser.open(`${base}/ways/ridge`);
  const posted = there.location ? undefined : formOf(there.html);
  return { browser, request: posted ? provider.read(posted.action, posted.fields) : provider.read(there.location) };
}
type Begun = Awaited<ReturnType<typeof begin>>;
/** Posts a response as a browser does, without our cookie, and follows the way back. */
async function answer({ browser, request }: Begun, person: ProviderPerson, changes: ResponseChanges = {}) {
  const fields = { SAMLResponse: await provider.respond(request, person, changes), RelayState: request.relayState };
  return { fields, ...(await deliver(browser, fields)) };
}
async function deliver(browser: PageBrowser, fields: Record<string, string>) {
  const posted = await browser.post(`${base}/ways/ridge/return`, fields, false);
  return browser.open(posted.location);
}
async function me(location: string) {
  const { access_token: token } = await page.tokens(location);
  return (await test.app('GET', '/users/me', { key: app.dev.clientKey, token })).body;
}
const reasons = async () => {
  const query = { filter: "source = 'sign-in way ridge'", limit: 5 };
  return (await test.owner.call(operations.log.list, { params: app.dev.params, query })).items.map(({ text }) => text);
};
const certificate = () => {
  const found = /<(?:\w+:)?X509Certificate>([^<]+)</.exec(metadata)?.[1] ?? '';
  return `-----BEGIN CERTIFICATE-----\n${found.replace(/\s/g, '').replace(/(.{64})/g, '$1\n')}\n-----END CERTIFICATE-----\n`;
};

describe('somebody of a SAML provider', () => {
  it('signs in there, and has the address, the name and the roles of their groups', async () => {
    const begun = await begin();
    expect(begun.request).toMatchObject({ signed: true, callbackUrl: `${base}/ways/ridge/return`, issuer: `${base}/ways/ridge/metadata` });
    const browser = new PageBrowser();
    const asked = await browser.open((await begun.browser.open(`${base}/ways/ridge`)).location);
    const signedIn = await browser.post(`${provider.address}/sign-in`, {
      ...formOf(asked.html).fields,
      user: 'signe',
      password: PROVIDER_PASSWORD,
    });
    const { location } = await deliver(begun.browser, formOf(signedIn.html).fields);
    expect(await me(location)).toMatchObject({
      email: SIGNE.email,
      name: SIGNE.name,
      roles: ['warden'],
      emailConfirmedAt: expect.any(String),
    });
  });

  it('is the same one next time, by an encrypted assertion and by a posted request, with the roles of now', async () => {
    const first = await me((await answer(await begin(), SIGNE)).location);
    await put({ metadata: provider.metadata(['HTTP-POST']) });
    const begun = await begin();
    expect(begun.request.signed).toBe(true);
    const again = await me((await answer(begun, { ...SIGNE, groups: [] }, { encryptFor: certificate() })).location);
    expect(again).toMatchObject({ id: first.id, roles: [] });
  });
});

describe('a response', () => {
  const wrapped = (xml: string) => {
    const [assertion = ''] = /<saml:Assertion[\s\S]*<\/saml:Assertion>/.exec(xml) ?? [];
    const forged = assertion
      .replace(/<Signature[\s\S]*?<\/Signature>/, '')
      .replaceAll(KENJI.id, SIGNE.id)
      .replace(/ID="_[^"]+"/, 'ID="_forged"');
    return xml.replace(assertion, `${forged}<samlp:Extensions>${assertion}</samlp:Extensions>`);
  };
  const twice = (xml: string) => {
    const [assertion = ''] = /<saml:Assertion[\s\S]*<\/saml:Assertion>/.exec(xml) ?? [];
    return xml.replace(assertion, assertion + assertion.replaceAll(KENJI.id, SIGNE.id));
  };
  it.each<[what: string, changes: ResponseChanges]>([
    ['that nobody signed', { sign: 'nothing' }],
    ['of which only the outside is signed', { sign: 'response' }],
    ['that was changed after it was signed', { tamper: (xml) => xml.replace(KENJI.id, SIGNE.id) }],
    ['whose signature was wrapped around another assertion', { tamper: wrapped }],
    ['with a second assertion', { tamper: twice }],
    ['with a document type', { tamper: (xml) => `<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]>${xml}` }],
    ['for the audience of another app', { audience: 'https://huts.quillfell.example' }],
    ['to a request that was never sent', { inResponseTo: '_another' }],
    ['for another address', { recipient: 'https://huts.quillfell.example/return' }],
    ['of another provider', { issuer: 'https://elsewhere.example' }],
  ])('%s lets nobody in', async (_what, changes) => {
    const { status, location } = await answer(await begin(), KENJI, changes);
    expect([status, location]).toEqual([400, '']);
  });

  it('that is posted twice, or in another browser than the one that began, lets nobody in', async () => {
    const begun = await begin();
    const { fields, location } = await answer(begun, KENJI);
    expect(location).toContain('code=');
    expect((await deliver((await begin()).browser, fields)).location).toBe('');
    const [mine, theirs] = [await begin(), await begin()];
    const stolen = { SAMLResponse: await provider.respond(mine.request, KENJI), RelayState: mine.request.relayState };
    expect((await deliver(theirs.browser, stolen)).location).toBe('');
  });

  it.each<[fault: 'wrong-signature' | 'expired' | 'clock-off', words: string]>([
    ['wrong-signature', 'paste its metadata anew'],
    ['expired', 'A clock is off, or the assertion is old'],
    ['clock-off', 'A clock is off'],
  ])('of a provider with the fault %s is refused, and the log says why', async (fault, words) => {
    provider.fault(fault);
    expect((await answer(await begin(), KENJI)).location).toBe('');
    await eventually(async () => (await reasons()).some((text) => text.includes(words)));
  });
});

it('a way that is tried shows whom the assertion names, or why it is refused', async () => {
  const tried = async () => {
    const { address } = await test.owner.call(operations.signInWays.tryOut, { params: { ...app.dev.params, way: 'ridge' } });
    const browser = new PageBrowser();
    await browser.open(address);
    const there = await browser.open(`${base}/ways/ridge`);
    return (await answer({ browser, request: provider.read(there.location) }, SIGNE)).html;
  };
  expect(await tried()).toMatch(/The way works.*Signe Fell.*signe@ridge\.example/s);
  provider.fault('wrong-signature');
  expect(await tried()).toMatch(/does not work yet.*paste its metadata anew/s);
});

describe('a way by SAML', () => {
  it('is checked, and the wrong document is refused by name', async () => {
    expect(await check()).toMatchObject({
      ok: true,
      steps: [{ what: 'metadata' }, { what: 'certificate' }, { what: 'address', text: expect.stringContaining('/ways/ridge/metadata') }],
    });
    await expect(put({ metadata })).rejects.toMatchObject({ problem: 'invalid-input', detail: expect.stringContaining('perhaps our own') });
    await expect(put({ metadata: 'https://id.ridge.example' })).rejects.toMatchObject({
      detail: expect.stringContaining('This is no XML'),
    });
    await expect(put({ metadata: `<!DOCTYPE x>${provider.metadata()}` })).rejects.toMatchObject({
      detail: expect.stringContaining('<!DOCTYPE'),
    });
  });

  it('shows neither its key nor a secret', async () => {
    const { items } = await test.owner.call(operations.signInWays.list, { params: app.dev.params });
    expect(items[0]).not.toHaveProperty('key');
    expect(items[0]).toMatchObject({ hasSecret: false, metadataAddress: `${base}/ways/ridge/metadata` });
  });
});
