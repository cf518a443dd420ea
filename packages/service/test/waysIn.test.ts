/** Accounts that look after themselves: rules of entry, mails, ways in without a password, guests, and sessions of one's own. */
import { pbkdf2Sync, scryptSync } from 'node:crypto';
import { hashSync as argonHashSync } from '@node-rs/argon2';
import { hashSync as bcryptHashSync } from '@node-rs/bcrypt';
import { operations } from '@orchard/contract';
import { MAIL_ACCOUNT, SMS_ACCOUNT } from '@orchard/simulators';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { removeDue } from '../src/people/users/account.js';
import { eventually, makeApp, PASSWORD, type Place, startTestService, type TestApp, type TestService } from './support.js';

const SALT = Buffer.from('salt of another system');
const base64 = (bytes: Buffer): string => bytes.toString('base64').replace(/=+$/, '');
let test: TestService;
let app: TestApp;
let number = 0;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
});
afterAll(() => test.stop());
beforeEach(async () => {
  app = await makeApp(test, `hiker-${++number}`);
});

type Options = Parameters<TestService['app']>[2];
const call = (method: string, path: string, body?: object, options: Options = {}) =>
  test.app(method, path, { key: app.dev.clientKey, ...(body ? { body } : {}), ...options });
const rules = (body: object, { params }: Place = app.dev) => test.owner.call(operations.accounts.changeRules, { params, body });
const outbox = async () => (await test.owner.call(operations.accounts.outbox, { params: app.dev.params })).items;
/** The latest mail of a kind, which goes out in the background. */
const mailed = (mail: string, to?: string) =>
  eventually(async () => (await outbox()).find((one) => one.mail === mail && (!to || one.to === to)));
const tokenIn = (text: string): string => /token=(\S+)/.exec(text)?.[1] ?? '';
const RUNA = { email: 'runa@hikers.example', password: PASSWORD, name: 'Runa' };
const me = async (token: string) => (await call('GET', '/users/me', undefined, { token })).body;
const addMail = ({ params }: Place) =>
  test.owner.call(operations.gateways.create, {
    params,
    body: {
      kind: 'smtp',
      name: 'post',
      stage: 'live',
      settings: {
        host: 'localhost',
        port: test.simulators.mail.port,
        trust: test.simulators.authority.certificate,
        from: 'Quillfell Huts <huts@quillfell.example>',
        user: MAIL_ACCOUNT.user,
      },
      password: MAIL_ACCOUNT.password,
    } as never,
  });

describe('a password', () => {
  const signUp = (password: string) => call('POST', '/users', { ...RUNA, password });

  it('has as many characters as the team asks, and may be a common one where the team lets it', async () => {
    await rules({ leastPassword: 16 });
    const { status, body } = await signUp('over-the-col');
    expect([status, body.fields]).toEqual([
      422,
      [
        {
          path: 'body.password',
          problem: 'This password has fewer than 16 characters.',
          expected: expect.stringMatching(/^16 to 256 characters/),
        },
      ],
    ]);
    await rules({ leastPassword: 8 });
    expect((await signUp('password1')).body.detail).toContain('easy to guess');
    await rules({ commonPasswords: true });
    expect((await signUp('aaaaaaaaaa')).status).toBe(422);
    expect((await signUp('password1')).status).toBe(201);
  });

  it('may be guessed as often as the team says, and then after a wait', async () => {
    await rules({ freeGuesses: 3, longestWaitMin: 1 });
    await signUp(PASSWORD);
    const guess = (password: string) => call('POST', '/sessions', { email: RUNA.email, password });
    for (let i = 0; i < 3; i++) expect((await guess('not-this-one')).status).toBe(401);
    const refused = await guess(PASSWORD);
    expect(refused.status).toBe(429);
    expect(Number(refused.headers.get('retry-after'))).toBeLessThanOrEqual(2);
    await eventually(async () => (await guess(PASSWORD)).status === 201, 10_000);
  });
});

describe('a mail address', () => {
  it('is confirmed by the mail of the sign-up, once; and where that is asked, nobody signs in before', async () => {
    await rules({ confirm: 'first' });
    expect(await call('POST', '/users', RUNA)).toMatchObject({ status: 403, body: { type: '/docs/problems/confirmation-missing' } });
    expect((await call('POST', '/sessions', { email: RUNA.email, password: PASSWORD })).status).toBe(403);
    const token = tokenIn((await mailed('confirm-address')).text);
    expect((await call('POST', '/users/confirm', { token })).body).toEqual({ email: RUNA.email });
    expect((await call('POST', '/users/confirm', { token })).body.type).toBe('/docs/problems/link-refused');
    const { body } = await call('POST', '/sessions', { email: RUNA.email, password: PASSWORD });
    expect(body.user.emailConfirmedAt).not.toBeNull();
  });

  it('of an account is no news to whoever signs up with it, where confirming comes first: its owner gets a mail', async () => {
    await rules({ confirm: 'first' });
    const first = await call('POST', '/users', RUNA);
    const again = await call('POST', '/users', { ...RUNA, password: 'another-good-password' });
    const shown = ({ status, body: { request: _request, ...body } }: typeof first) => ({ status, body });
    expect(shown(again)).toEqual(shown(first));
    expect((await mailed('address-taken')).to).toBe(RUNA.email);
    await call('POST', '/users/confirm', { token: tokenIn((await mailed('confirm-address')).text) });
    expect((await call('POST', '/sessions', { email: RUNA.email, password: 'another-good-password' })).status).toBe(401);
  });

  it.each([
    ['in capitals', 'Runa@HIKERS.example', 'runa@hikers.example', 'RUNA@hikers.example'],
    ['with signs', "o'ridge+col=2@hikers.example", "o'ridge+col=2@hikers.example", "O'Ridge+Col=2@hikers.example"],
    ['in quotes', '"runa, of the @ col"@hikers.example', '"runa, of the @ col"@hikers.example', '"Runa, of the @ Col"@hikers.example'],
    ['in another script', '山小屋@山.example', '山小屋@xn--rht.example', '山小屋@xn--rht.example'],
  ])('%s is one account, however it is written', async (_, given, kept, again) => {
    expect((await call('POST', '/users', { ...RUNA, email: given })).body.user.email).toBe(kept);
    expect((await call('POST', '/users', { ...RUNA, email: again })).status).toBe(409);
    expect((await call('POST', '/sessions', { email: again, password: PASSWORD })).status).toBe(201);
  });

  it('in another script gets its mail', async () => {
    await rules({ confirm: 'asked' });
    await addMail(app.dev);
    await call('POST', '/users', { ...RUNA, email: '山小屋@山.example' });
    // The server reads the domain in its own script again (RFC 6531).
    await eventually(() => test.simulators.mail.mailsOf('山小屋@山.example').some(({ text }) => tokenIn(text) !== ''));
  });

  it('is changed from the new one, and the old one is told', async () => {
    const { accessToken: token } = (await call('POST', '/users', RUNA)).body;
    const change = (email: string, password = PASSWORD) => call('PUT', '/users/me/email', { email, password }, { token });
    expect((await change('runa.fell@hikers.example', 'not-the-password')).status).toBe(401);
    expect((await change('runa.fell@hikers.example')).status).toBe(202);
    expect((await me(token)).email).toBe(RUNA.email);
    await call('POST', '/users/confirm', { token: tokenIn((await mailed('change-address', 'runa.fell@hikers.example')).text) });
    expect(await me(token)).toMatchObject({ email: 'runa.fell@hikers.example', emailConfirmedAt: expect.any(String) });
    expect((await mailed('address-changed', RUNA.email)).text).toContain('runa.fell@hikers.example');
  });

  it('that somebody else has meanwhile is not taken over', async () => {
    const { accessToken: token } = (await call('POST', '/users', RUNA)).body;
    await call('PUT', '/users/me/email', { email: 'kenji@hikers.example', password: PASSWORD }, { token });
    const { text } = await mailed('change-address');
    await call('POST', '/users', { ...RUNA, email: 'kenji@hikers.example' });
    expect((await call('POST', '/users/confirm', { token: tokenIn(text) })).status).toBe(409);
    expect((await me(token)).email).toBe(RUNA.email);
  });
});

describe('a password', () => {
  it('is reset by mail, and the address in it works once', async () => {
    await call('POST', '/users', RUNA);
    const forgot = await call('POST', '/users/reset', { email: RUNA.email });
    const token = tokenIn(forgot.body.address);
    expect((await call('POST', '/users/reset', { email: 'nobody@hikers.example' })).body).toEqual({});
    expect((await call('POST', '/users/reset', { token, password: 'a-lantern-in-the-fog' })).status).toBe(202);
    expect((await call('POST', '/users/reset', { token, password: 'a-lantern-in-the-fog' })).body.type).toBe('/docs/problems/link-refused');
    expect((await call('POST', '/sessions', { email: RUNA.email, password: 'a-lantern-in-the-fog' })).status).toBe(201);
  });

  it('is chosen by whoever is invited, where nobody else may sign up', async () => {
    await rules({ signUp: 'invited' });
    expect(await call('POST', '/users', RUNA)).toMatchObject({ status: 403, body: { detail: expect.stringContaining('by invitation') } });
    const body = { email: 'hana@hikers.example', name: 'Hana', roles: ['warden'], locale: 'nb-NO' };
    const invited = await test.owner.call(operations.accounts.invite, { params: app.dev.params, body });
    expect(invited.roles).toEqual(['warden']);
    const { subject, text } = await mailed('invitation');
    expect(subject).toBe(`Du er invitert til ${app.name}`);
    await call('POST', '/users/reset', { token: tokenIn(text), password: 'a-lantern-in-the-fog' });
    const { body: session } = await call('POST', '/sessions', { email: body.email, password: 'a-lantern-in-the-fog' });
    expect(session.user).toMatchObject({ id: invited.id, emailConfirmedAt: expect.any(String) });
  });
});

describe('without a password', () => {
  it('a code by mail signs in, once, and not by guessing', async () => {
    await rules({ codeByMail: true });
    await call('POST', '/users', RUNA);
    const { code } = (await call('POST', '/sign-in-codes', { email: RUNA.email })).body;
    const answer = (text: string) => call('POST', '/sessions/code', { email: RUNA.email, code: text });
    const wrong = String((Number(code) + 1) % 1_000_000).padStart(6, '0');
    expect((await answer(wrong)).body).toMatchObject({ type: '/docs/problems/code-refused', detail: expect.stringContaining('4 tries') });
    const { status, body } = await answer(`${code.slice(0, 3)} ${code.slice(3)}`);
    expect([status, body.user.emailConfirmedAt === null]).toEqual([201, false]);
    expect((await answer(code)).body.type).toBe('/docs/problems/code-refused');
    expect((await mailed('sign-in-code')).subject).toContain(code);
  });

  it('an address without an account gets the same response, and no mail', async () => {
    await rules({ codeByMail: true });
    const { status, body } = await call('POST', '/sign-in-codes', { email: 'nobody@hikers.example' });
    expect([status, Object.keys(body)]).toEqual([202, ['expiresAt']]);
    expect(await outbox()).toEqual([]);
    expect((await call('POST', '/sessions/code', { email: 'nobody@hikers.example', code: '000000' })).body.type).toBe(
      '/docs/problems/code-refused',
    );
  });

  it('an address by mail signs in through the app, where it leads into the app', async () => {
    await expect(rules({ linkByMail: true })).rejects.toMatchObject({ extras: { fields: [{ path: 'body.linkAddress' }] } });
    await rules({ linkByMail: true, linkAddress: 'quillfell://account/{kind}?token={token}' });
    await call('POST', '/users', RUNA);
    await call('POST', '/sign-in-codes', { email: RUNA.email, as: 'link' });
    const { text } = await mailed('sign-in-link');
    expect(text).toContain('quillfell://account/sign-in-link?token=');
    const token = tokenIn(text);
    expect((await call('POST', '/sessions/link', { token })).body.user.email).toBe(RUNA.email);
    expect((await call('POST', '/sessions/link', { token })).body.type).toBe('/docs/problems/link-refused');
  });

  it('a code by SMS signs in whoever has verified the number', async () => {
    await rules({ codeBySms: true });
    test.config.pushOrigins.push(test.simulators.sms.httpAddress);
    const settings = {
      host: '127.0.0.1',
      port: test.simulators.sms.port,
      systemId: SMS_ACCOUNT.systemId,
      sender: 'Quillfell',
      binds: 1,
      window: 5,
    };
    const body = { kind: 'smpp', name: 'heron', stage: 'live', settings, password: SMS_ACCOUNT.password } as never;
    await test.owner.call(operations.gateways.create, { params: app.dev.params, body });
    const { accessToken: token } = (await call('POST', '/users', RUNA)).body;
    const phone = '+12025550177';
    const codeOf = (known: number) => eventually(() => /\d{6}/.exec(test.simulators.sms.textsOf(phone)[known]?.text ?? '')?.[0]);
    await call('POST', '/users/me/phone', { number: phone }, { token });
    await call('PUT', '/users/me/phone', { number: phone, code: await codeOf(0) }, { token });
    expect((await call('POST', '/sign-in-codes', { phone })).status).toBe(202);
    expect((await call('POST', '/sessions/code', { phone, code: await codeOf(1) })).body.user.phone).toBe(phone);
  });

  it('what is not allowed is refused', async () => {
    for (const body of [{ email: RUNA.email }, { email: RUNA.email, as: 'link' }, { phone: '+12025550177' }])
      expect((await call('POST', '/sign-in-codes', body)).body.type).toBe('/docs/problems/access-refused');
    expect((await call('POST', '/sessions/guest')).body.type).toBe('/docs/problems/access-refused');
  });
});

it('a guest begins without an address, and keeps what is theirs when they become a user', async () => {
  await rules({ guests: true });
  const { accessToken: token, user } = (await call('POST', '/sessions/guest')).body;
  expect(user.email).toBeNull();
  const record = (await call('POST', '/data/notes', { text: 'fog at the col' }, { token })).body;
  expect((await call('PUT', '/users/me/email', { email: RUNA.email, password: 'x' }, { token })).status).toBe(401);
  const became = await call('POST', '/users/me/account', RUNA, { token });
  expect(became.body).toMatchObject({ id: user.id, email: RUNA.email, name: 'Runa' });
  expect((await call('POST', '/users/me/account', RUNA, { token })).body.type).toBe('/docs/problems/wrong-state');
  const signedIn = (await call('POST', '/sessions', { email: RUNA.email, password: PASSWORD })).body;
  expect((await call('GET', `/data/notes/${record.id}`, undefined, { token: signedIn.accessToken })).body.text).toBe('fog at the col');
});

describe('the rules of entry', () => {
  it('let in by domain, terms and version of the app', async () => {
    await rules({ signUp: 'domains', domains: ['hikers.example'], terms: '2026-11', leastVersions: { 'hiker-ios': '2.6.0' } });
    const signUp = (body: object, agent = 'QuillfellHiker/2.6.1 (iOS 19)') =>
      call('POST', '/users', body, { headers: { 'user-agent': agent } });
    const accepted = { ...RUNA, terms: '2026-11' };
    expect((await signUp({ ...accepted, email: 'runa@elsewhere.example' })).body.detail).toContain('(hikers.example)');
    expect((await signUp(RUNA)).body.fields).toMatchObject([{ path: 'body.terms', problem: 'It is missing.' }]);
    expect((await signUp(accepted, 'QuillfellHiker/2.5.9')).body).toMatchObject({
      type: '/docs/problems/app-outdated',
      detail: 'hiker-ios signs in from version 2.6.0 on; this is 2.5.9.',
    });
    const { status, body } = await signUp(accepted);
    expect([status, body.user.terms]).toEqual([201, '2026-11']);
  });

  it('end the oldest session beyond the most', async () => {
    await rules({ mostSessions: 2 });
    const first = (await call('POST', '/users', RUNA)).body;
    const next = [];
    for (let i = 0; i < 2; i++) next.push((await call('POST', '/sessions', { email: RUNA.email, password: PASSWORD })).body);
    expect((await call('GET', '/users/me', undefined, { token: first.accessToken })).status).toBe(401);
    for (const { accessToken } of next) expect((await call('GET', '/users/me', undefined, { token: accessToken })).status).toBe(200);
  });
});

it('a user sees where they are signed in and ends one of the sessions; so does the team', async () => {
  const { accessToken: token, user } = (await call('POST', '/users', RUNA)).body;
  const other = (await call('POST', '/sessions', { email: RUNA.email, password: PASSWORD })).body;
  const { items } = (await call('GET', '/users/me/sessions', undefined, { token })).body;
  expect(items.map(({ client, isCurrent }: { client: string; isCurrent: boolean }) => [client, isCurrent])).toEqual([
    ['hiker-ios', false],
    ['hiker-ios', true],
  ]);
  expect((await call('DELETE', `/users/me/sessions/${items[0].id}`, undefined, { token })).status).toBe(204);
  expect((await call('GET', '/users/me', undefined, { token: other.accessToken })).status).toBe(401);
  const at = { ...app.dev.params, user: user.id };
  const [own] = (await test.owner.call(operations.accounts.sessions, { params: at })).items;
  await test.owner.call(operations.accounts.endSession, { params: { ...at, session: own?.id as string } });
  expect((await call('GET', '/users/me', undefined, { token })).status).toBe(401);
});

describe('mails about accounts', () => {
  it('say what the team wrote, in the language of the person, and are tried before', async () => {
    const at = { ...app.dev.params, mail: 'new-password' as const };
    const own = { subject: 'Ny nøkkel til {app}', text: 'Hei {name|der}, her: {link}' };
    await test.owner.call(operations.accounts.writeMail, { params: { ...at, locale: 'nb' }, body: own });
    const preview = await test.owner.call(operations.accounts.previewMail, { params: at, body: { locale: 'nb-NO' } });
    expect(preview).toMatchObject({ subject: 'Ny nøkkel til Quillfell Hiker', text: expect.stringContaining('Hei Runa') });
    await call('POST', '/users', RUNA);
    await call('POST', '/users/reset', { email: RUNA.email }, { headers: { 'accept-language': 'nb-NO,en;q=0.5' } });
    expect((await mailed('new-password')).subject).toBe(`Ny nøkkel til ${app.name}`);
    await test.owner.call(operations.accounts.resetMail, { params: { ...at, locale: 'nb' } });
    const { items } = await test.owner.call(operations.accounts.mails, { params: app.dev.params });
    expect(items.find(({ mail }) => mail === 'new-password')?.own).toEqual({});
  });

  it.each([
    [{ subject: 'x', text: 'no way to go on' }, 'body.text', 'must contain {link}'],
    [{ subject: '{nmae}', text: '{link}' }, 'body.subject', 'There is no variable `nmae`; did you mean `name`?'],
    [{ subject: '{colour}', text: '{link}' }, 'body.subject', 'There is no variable `colour`; there is app, name, email, link'],
    [{ subject: 'x', text: '{link' }, 'body.text', 'is not closed'],
  ])('are refused as %j', async (body, path, words) => {
    const work = test.owner.call(operations.accounts.writeMail, {
      params: { ...app.dev.params, mail: 'new-password', locale: 'en' },
      body,
    });
    await expect(work).rejects.toMatchObject({ extras: { fields: [{ path, problem: expect.stringContaining(words) }] } });
  });

  it('go through the gateway, and live says what is missing without one', async () => {
    const { params, clientKey } = app.live;
    const test1 = { params: { ...params, mail: 'invitation' as const }, body: { to: 'mira@quillfell.example', locale: 'de' } };
    await expect(test.owner.call(operations.accounts.testMail, test1)).rejects.toMatchObject({ problem: 'gateway-missing' });
    expect((await test.owner.call(operations.accounts.rules, { params })).mailMissing).toContain('has no gateway for mail');
    await addMail(app.live);
    expect(await test.owner.call(operations.accounts.testMail, test1)).toEqual({ way: 'gateway' });
    expect(test.simulators.mail.mailsOf('mira@quillfell.example').at(-1)?.subject).toBe(`Einladung zu ${app.name}`);
    await rules({ tellNewSignIn: true }, app.live);
    const email = `ivo-${number}@hikers.example`;
    await test.app('POST', '/users', { key: clientKey, body: { ...RUNA, email } });
    const signIn = (address: string) =>
      test.app('POST', '/sessions', { key: clientKey, body: { email, password: PASSWORD }, headers: { 'x-forwarded-for': address } });
    await signIn('192.0.2.7');
    await signIn('192.0.2.7');
    const told = () => test.simulators.mail.mailsOf(email).filter(({ subject }) => subject.includes('A new sign-in'));
    await eventually(() => told().length === 1);
    expect(told()[0]?.text).toContain('hiker-ios');
  });
});

describe('a user of their own', () => {
  it('gets all that is kept of them as one document, and nothing of others', async () => {
    const { accessToken: token } = (await call('POST', '/users', RUNA)).body;
    const other = (await call('POST', '/users', { ...RUNA, email: 'kenji@hikers.example' })).body;
    await call('POST', '/data/notes', { text: 'fog at the col' }, { token });
    await call('POST', '/data/notes', { text: 'not yours' }, { token: other.accessToken });
    const device = { platform: 'ios', appVersion: '2.6.1', os: 'iOS 19', locale: 'nb-NO', timeZone: 'Europe/Oslo', permission: 'granted' };
    const { secret } = (await call('PUT', '/devices/phone-0001', device, { token })).body;
    const events = [{ id: 'e-1', name: 'hut_opened', at: new Date().toISOString(), properties: { hut: 'fellgate' } }];
    const headers = { 'orchard-device': 'phone-0001', 'orchard-device-secret': secret };
    await call('POST', '/events', { sentAt: new Date().toISOString(), events }, { token, headers });
    const { body } = await call('GET', '/users/me/export', undefined, { token });
    expect(body).toMatchObject({
      account: { email: RUNA.email },
      sessions: [{ client: 'hiker-ios' }],
      devices: [{ id: 'phone-0001' }],
      topics: [],
      records: { notes: [{ text: 'fog at the col' }] },
      events: [{ name: 'hut_opened', properties: { hut: 'fellgate' } }],
    });
    expect(JSON.stringify(body)).not.toMatch(/not yours|kenji|argon2/);
  });

  it('deletes the account, comes back within the days of grace, and is gone after them', async () => {
    await rules({ graceDays: 14, tellDeleted: true });
    const signIn = () => call('POST', '/sessions', { email: RUNA.email, password: PASSWORD });
    const remove = (token: string) => call('POST', '/users/me/deletion', { password: PASSWORD }, { token });
    const { accessToken: token, user } = (await call('POST', '/users', RUNA)).body;
    expect((await remove(token)).status).toBe(204);
    expect((await call('GET', '/users/me', undefined, { token })).status).toBe(401);
    const at = { params: { ...app.dev.params, user: user.id } };
    expect((await test.owner.call(operations.users.read, at)).deleteAt).not.toBeNull();
    const back = (await signIn()).body;
    expect(back.user.deleteAt).toBeNull();
    await remove(back.accessToken);
    const environment = await test.service.parts.directory.environment(app.name, 'dev');
    await environment.db.run(`UPDATE ${environment.db.name}._users SET deleteAt = deleteAt - INTERVAL 15 DAY`);
    await removeDue(test.service.parts, test.service.parts.userStore, environment);
    expect((await signIn()).status).toBe(401);
    expect((await mailed('account-deleted')).to).toBe(RUNA.email);
  });
});

describe('fields of users', () => {
  const define = (field: string, body: object) =>
    test.owner.call(operations.accounts.defineField, { params: { ...app.dev.params, field }, body: body as never });
  const server = (method: string, path: string, body?: object) => call(method, path, body, { key: app.dev.serverKey });

  it('are checked, seen and changed by those who may', async () => {
    await define('club', { type: 'choice', choices: ['north', 'south'] });
    await define('tier', { type: 'integer', min: 0, changedBy: 'servers' });
    await define('note', { type: 'text', seenBy: 'servers', changedBy: 'servers' });
    const { accessToken: token, user } = (await call('POST', '/users', { ...RUNA, data: { club: 'north', pace: 'slow' } })).body;
    const patch = (data: object) => call('PATCH', '/users/me', { data }, { token });
    expect((await patch({ club: 'east' })).body.fields).toMatchObject([{ path: 'body.data.club' }]);
    expect((await patch({ tier: 3 })).body.fields).toMatchObject([
      { path: 'body.data.tier', problem: expect.stringContaining('set by the team') },
    ]);
    expect((await server('PATCH', `/users/${user.id}`, { data: { tier: -1 } })).body.fields).toMatchObject([{ path: 'body.data.tier' }]);
    await server('PATCH', `/users/${user.id}`, { data: { tier: 3, note: 'asks for the bunk at the window' } });
    expect((await me(token)).data).toEqual({ club: 'north', pace: 'slow', tier: 3 });
    expect((await server('GET', `/users/${user.id}`)).body.data.note).toContain('window');
    expect((await call('POST', '/users', { ...RUNA, email: 'ivo@hikers.example', data: { note: 'x' } })).status).toBe(422);
  });

  it('filter users, audiences and records by rules, and a change holds at the next call', async () => {
    await define('club', { type: 'choice', choices: ['north', 'south'] });
    await define('since', { type: 'date' });
    const { accessToken: token, user } = (await call('POST', '/users', { ...RUNA, data: { club: 'north', since: '2024-05-01' } })).body;
    await call('POST', '/users', { ...RUNA, email: 'ivo@hikers.example', data: { club: 'south' } });
    const found = async (filter: string) =>
      (await test.owner.call(operations.users.list, { params: app.dev.params, query: { filter, sort: 'since' } })).items.map(
        ({ email }) => email,
      );
    expect(await found("club = 'north' AND since < DATE('2025-01-01')")).toEqual([RUNA.email]);
    expect(await found("club = 'south'")).toEqual(['ivo@hikers.example']);
    const device = { platform: 'ios', appVersion: '2.6.1', os: 'iOS 19', locale: 'nb-NO', timeZone: 'Europe/Oslo', permission: 'granted' };
    await call('PUT', '/devices/phone-0001', device, { token });
    const body = { title: 'x', way: 'push' as const, audience: { filter: "user.club = 'north'" } };
    expect((await test.owner.call(operations.notifications.previewManaged, { params: app.dev.params, body })).total).toBe(1);

    await server('POST', '/data/trails', { name: 'Ridge', club: 'north' });
    const rules = { read: "club = me('club')", create: 'FALSE', update: 'FALSE', delete: 'FALSE' };
    await test.owner.call(operations.collections.patch, { params: { ...app.dev.params, collection: 'trails' }, body: { rules } });
    const seen = async () => (await call('GET', '/data/trails', undefined, { token })).body.items.length;
    expect(await seen()).toBe(1);
    await server('PATCH', `/users/${user.id}`, { data: { club: 'south' } });
    expect(await seen()).toBe(0);
    const wrong = { ...rules, read: "club = me('clubb')" };
    const work = test.owner.call(operations.collections.patch, {
      params: { ...app.dev.params, collection: 'trails' },
      body: { rules: wrong },
    });
    await expect(work).rejects.toMatchObject({ detail: expect.stringContaining("me('club')") });
  });

  it('take over what stands in the data, and say what does not fit', async () => {
    await call('POST', '/users', { ...RUNA, data: { club: 'north' } });
    await call('POST', '/users', { ...RUNA, email: 'ivo@hikers.example', data: { club: 7 } });
    expect(await define('club', { type: 'text' })).toMatchObject({ name: 'club', misfits: 1, seenBy: 'user', changedBy: 'user' });
    await expect(define('email', { type: 'text' })).rejects.toMatchObject({ extras: { fields: [{ path: 'params.field' }] } });
    await expect(define('age', { type: 'integer', choices: ['x'] })).rejects.toMatchObject({ problem: 'invalid-input' });
    await test.owner.call(operations.accounts.removeField, { params: { ...app.dev.params, field: 'club' } });
    expect((await test.owner.call(operations.accounts.fields, { params: app.dev.params })).items).toEqual([]);
  });
});

describe('accounts of another system', () => {
  /** Made by other programs for the password `over-the-second-col`. */
  const hashes = {
    bcrypt: bcryptHashSync('over-the-second-col', { cost: 4 }),
    argon2: argonHashSync('over-the-second-col', { memoryCost: 8_192, timeCost: 3, parallelism: 1 }),
    scrypt: `$scrypt$ln=12,r=8,p=1$${base64(SALT)}$${base64(scryptSync('over-the-second-col', SALT, 32, { N: 4096, r: 8, p: 1 }))}`,
    pbkdf2: `$pbkdf2-sha256$i=20000,l=32$${base64(SALT)}$${base64(pbkdf2Sync('over-the-second-col', SALT, 20_000, 32, 'sha256'))}`,
    passlib: `$pbkdf2-sha512$1000$${base64(SALT).replaceAll('+', '.')}$${base64(pbkdf2Sync('over-the-second-col', SALT, 1_000, 64, 'sha512')).replaceAll('+', '.')}`,
  };

  it('keep their passwords, whatever hashed them, and are hashed as ours from the first sign-in on', async () => {
    const users = Object.entries(hashes).map(([name, passwordHash]) => ({
      email: `${name}@hikers.example`,
      passwordHash,
      emailConfirmed: true,
    }));
    expect(await test.owner.call(operations.accounts.importUsers, { params: app.dev.params, body: { users } })).toEqual({
      added: 5,
      refused: [],
    });
    for (const { email } of users) {
      const signIn = (password: string) => call('POST', '/sessions', { email, password });
      expect([email, (await signIn('over-the-first-col')).status]).toEqual([email, 401]);
      expect([email, (await signIn('over-the-second-col')).status]).toEqual([email, 201]);
      expect([email, (await signIn('over-the-second-col')).status]).toEqual([email, 201]);
    }
    const { db } = await test.service.parts.directory.environment(app.name, 'dev');
    const kept = await db.runRows<{ verifier: string }>(`SELECT verifier FROM ${db.name}._credentials`);
    expect(kept.map(({ verifier }) => verifier.slice(0, 30))).toEqual(Array(5).fill('$argon2id$v=19$m=19456,t=2,p=1'));
  });

  it('that cannot be taken over are refused one by one, and the others are added', async () => {
    await call('POST', '/users', RUNA);
    const users = [
      { email: RUNA.email, passwordHash: hashes.bcrypt },
      { email: 'md5@hikers.example', passwordHash: '5f4dcc3b5aa765d61d8327deb882cf99' },
      { email: 'slow@hikers.example', passwordHash: hashes.bcrypt.replace('$04$', '$31$') },
      { email: 'ivo@hikers.example' },
    ];
    const { added, refused } = await test.owner.call(operations.accounts.importUsers, { params: app.dev.params, body: { users } });
    expect([added, refused.map(({ problem }) => problem)]).toEqual([
      1,
      [
        expect.stringContaining('There is an account for'),
        expect.stringContaining('PHC string format'),
        expect.stringContaining('would cost too much: cost 31'),
      ],
    ]);
  });
});
