/** Accounts of an app's users from the terminal: who gets in, at which providers, with which roles, fields and mails. */
import { rmSync } from 'node:fs';
import { PROVIDER_PEOPLE, type OpenIdProvider, type ProviderPerson, startOpenIdProvider } from '@orchard/simulators';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openTerminal, signIn } from './terminal.js';

const [, KENJI] = PROVIDER_PEOPLE as [ProviderPerson, ProviderPerson];
let test: TestService;
let app: TestApp;
let provider: OpenIdProvider;
const terminal = openTerminal();
const { home, orchard, json } = terminal;

beforeAll(async () => {
  [test, provider] = await Promise.all([startTestService(inject('databaseUrl')), startOpenIdProvider()]);
  test.config.pushOrigins.push(provider.issuer);
  app = await makeApp(test, 'quillfell-hiker');
  await signIn(terminal, test.address, 'quillfell-hiker/dev');
});
afterAll(async () => {
  await Promise.all([test.stop(), provider.stop()]);
  rmSync(home, { recursive: true, force: true });
});

describe('a way to sign in', () => {
  const ridge = () => [
    'sign-in-way',
    'add',
    'ridge',
    '--title',
    'The ridge',
    '--issuer',
    provider.issuer,
    '--client-id',
    provider.client.id,
  ];

  it('is added with a secret that stands in no history, listed, and checked step by step', async () => {
    const { out } = await orchard(
      [...ridge(), '--roles', '{"wardens": "warden"}', '--secret-stdin', '--json'],
      `${provider.client.secret}\n`,
    );
    expect(JSON.parse(out)).toMatchObject({
      name: 'ridge',
      hasSecret: true,
      redirectAddress: expect.stringContaining('/ways/ridge/return'),
    });
    expect(out).not.toContain(provider.client.secret);
    expect((await orchard(['sign-in-way', 'list'])).out).toMatch(/ridge +openid +The ridge +http\S+ +yes +all +warden/);
    const checked = await orchard(['sign-in-way', 'check', 'ridge']);
    expect(checked).toMatchObject({ code: 0, out: expect.stringMatching(/metadata +ok .*\n.*scopes +ok/) });
    provider.fault('clock-off');
    expect(await orchard(['sign-in-way', 'check', 'ridge'])).toMatchObject({
      code: 1,
      out: expect.stringMatching(/clock +failed +The clock of the provider is 3\d{3} s off/),
    });
    provider.fault('none');
  });

  it('is tried at an address for the browser, or with a token from standard input', async () => {
    expect(await json('sign-in-way', 'try', 'ridge')).toMatchObject({ address: expect.stringMatching(/\/page\/try\?request=\S{32}$/) });
    const backend = ['sign-in-way', 'add', 'backend', '--kind', 'tokens', '--title', 'Our backend', '--issuer', provider.issuer];
    await orchard([...backend, '--audience', 'huts-api', '--keys-address', `${provider.issuer}/jwks`]);
    expect(await orchard(['sign-in-way', 'try', 'backend'])).toMatchObject({
      code: 4,
      err: expect.stringContaining('sign-in-way check backend'),
    });
    const token = await provider.idToken(KENJI, { audience: 'huts-api' });
    expect((await orchard(['sign-in-way', 'check', 'backend', '--token-stdin'], token)).out).toContain(`a new account with ${KENJI.email}`);
  });

  it('is refused with what to do about it, and removed only when that is meant', async () => {
    expect(
      await orchard(['sign-in-way', 'add', 'club', '--kind', 'saml', '--title', 'The club', '--metadata', '/nowhere.xml']),
    ).toMatchObject({
      code: 2,
      err: expect.stringContaining('/nowhere.xml cannot be read'),
    });
    expect(await orchard(['sign-in-way', 'check', 'club'])).toMatchObject({ code: 5, err: expect.stringContaining('sign-in-way list') });
    expect(await orchard(['sign-in-way', 'remove', 'backend'])).toMatchObject({
      code: 2,
      err: expect.stringContaining('nothing was done'),
    });
    expect(await orchard(['sign-in-way', 'remove', 'backend', '--yes'])).toMatchObject({ code: 0 });
    expect((await json('sign-in-way', 'list')).items.map(({ name }: { name: string }) => name)).toEqual(['ridge']);
  });
});

describe('accounts', () => {
  it('are opened by rules, each of which is shown as it stands', async () => {
    await orchard(['sign-up', 'set', '--sign-up', 'domains', '--domains', 'ridge.example,hikers.example', '--least-password', '12']);
    expect(await json('sign-up', 'show')).toMatchObject({
      signUp: 'domains',
      domains: ['ridge.example', 'hikers.example'],
      leastPassword: 12,
    });
    expect(await orchard(['sign-up', 'set', '--sign-up', 'some'])).toMatchObject({
      code: 2,
      err: expect.stringContaining('open, domains'),
    });
    expect(await orchard(['sign-up', 'set'])).toMatchObject({ code: 2, err: expect.stringContaining('There is nothing to change') });
  });

  it('have fields of the team, and roles by a rule over them', async () => {
    const { id } = await signUp(test, app.dev.clientKey, 'sverre');
    await orchard(['user-field', 'set', 'level', '--type', 'integer', '--changed-by', 'servers', '--description', 'How far they may lead']);
    expect((await orchard(['user-field', 'list'])).out).toMatch(/level +integer +user +servers +How far they may lead/);
    await orchard(['user', 'change', id, '--data', '{"level": 4}']);
    await orchard(['role', 'set', 'guide', '--description', 'Leads walks', '--rule', 'level >= 3']);
    expect((await orchard(['role', 'list'])).out).toMatch(/guide +1 +Leads walks +level >= 3/);
    expect(JSON.stringify(await json('user', 'roles', 'sverre@hikers.example'))).toContain('guide');
    expect(await orchard(['user-field', 'set', 'level', '--type', 'colour'])).toMatchObject({
      code: 2,
      err: expect.stringContaining('text, integer'),
    });
  });

  it('are written to in the team’s words, which are shown before they are sent', async () => {
    const { items } = await json('account-mail', 'list');
    const [{ mail }] = items;
    expect(await json('account-mail', 'preview', mail, '--locale', 'nb')).toMatchObject({ subject: expect.any(String) });
    await orchard(['account-mail', 'set', mail, 'en', '--subject', 'Hello from the huts', '--text', 'Open {link}']);
    const shown = await orchard(['account-mail', 'preview', mail, '--locale', 'en']);
    expect(shown.out).toContain('Hello from the huts');
    expect(shown.out).not.toContain('{link}');
    expect(await orchard(['account-mail', 'reset', mail, 'en', '--yes'])).toMatchObject({ code: 0 });
    expect((await orchard(['account-mail', 'preview', mail, '--locale', 'en'])).out).not.toContain('Hello from the huts');
  });

  it('are looked at as somebody, for a reason that the audit keeps', async () => {
    expect(await orchard(['user', 'sign-in-as', 'sverre@hikers.example'])).toMatchObject({
      code: 2,
      err: expect.stringContaining('--reason'),
    });
    const begun = await json('user', 'sign-in-as', 'sverre@hikers.example', '--reason', 'The booking list stays empty');
    expect(begun).toMatchObject({ accessToken: expect.any(String), client: 'hiker-ios' });
    expect(JSON.stringify(await json('audit', 'list', '--filter', "action = 'accounts.beginSupport'"))).toContain(
      'The booking list stays empty',
    );
  });
});
