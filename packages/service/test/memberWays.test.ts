/** Reaching members: by mail, SMS and browser, through gateways of the installation. */
import { createECDH, randomBytes } from 'node:crypto';
import { type HttpClient, operations } from '@orchard/contract';
import { decryptMessage } from '@orchard/core/push';
import { MAIL_ACCOUNT, SMS_ACCOUNT } from '@orchard/simulators';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { memberClient, startTestService, type TestService } from './support.js';

const own = operations.memberWays;
const PASSWORD = 'larch-and-lantern';
const NUMBER = '+12025550147';
let test: TestService;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
});
afterAll(() => test.stop());

const heron = () => ({
  kind: 'smpp' as const,
  name: 'heron',
  stage: 'live' as const,
  settings: { host: '127.0.0.1', port: test.simulators.sms.port, systemId: SMS_ACCOUNT.systemId, sender: 'Quillfell' },
  password: SMS_ACCOUNT.password,
});
const post = () => ({
  kind: 'smtp' as const,
  name: 'post',
  stage: 'live' as const,
  settings: {
    host: 'localhost',
    port: test.simulators.mail.port,
    trust: test.simulators.authority.certificate,
    from: 'Quillfell Orchard <orchard@quillfell.example>',
    user: MAIL_ACCOUNT.user,
  },
  password: MAIL_ACCOUNT.password,
});
async function join(name: string): Promise<{ id: string; email: string; client: HttpClient }> {
  const email = `${name}@quillfell.example`;
  const { id } = await test.owner.call(operations.members.add, { body: { email, name, password: PASSWORD } });
  return { id, email, client: await memberClient(test.address, { email, password: PASSWORD }) };
}
const codeIn = (text: string | undefined) => /\b\d{6}\b/.exec(text ?? '')?.[0] as string;
const lastText = (number = NUMBER) => test.simulators.sms.textsOf(number).at(-1)?.text;
const lastMail = (address: string) => test.simulators.mail.mailsOf(address).at(-1);

/** A browser that subscribes, and reads what is pushed to it. */
async function browser(client: HttpClient, name = 'Firefox on Linux') {
  const { applicationServerKey } = await client.call(own.pushKey, {});
  const { id, endpoint } = test.simulators.network.subscribe(applicationServerKey);
  const keys = createECDH('prime256v1');
  const [p256dh, auth] = [keys.generateKeys(), randomBytes(16)];
  const pushed: { title?: string; body?: string; link?: string }[] = [];
  test.simulators.network.listen(id, (body) => {
    const plain = decryptMessage(body, keys.getPrivateKey(), auth);
    pushed.push(JSON.parse(Buffer.from(plain).toString()));
  });
  const subscription = { endpoint, keys: { p256dh: p256dh.toString('base64url'), auth: auth.toString('base64url') } };
  const way = await client.call(own.add, { body: { kind: 'browser', name, subscription, pushKey: applicationServerKey } });
  return { way, pushed, subscription: id };
}

describe('without a gateway', () => {
  it('says what the installation lacks, and sends no code', async () => {
    const { missing } = await test.owner.call(own.list, {});
    expect(missing).toEqual({
      mail: expect.stringContaining('ORCHARD_SMTP_URL'),
      sms: expect.stringContaining('no gateway for SMS'),
      browser: null,
    });
    await expect(test.owner.call(own.add, { body: { kind: 'sms', number: NUMBER } })).rejects.toMatchObject({ problem: 'gateway-missing' });
    expect((await test.owner.call(own.list, {})).items).toEqual([]);
  });
});

describe('a gateway of the installation', () => {
  it('is added, checked and shown by owners, with what it is missing', async () => {
    await test.owner.call(own.addGateway, { body: heron() });
    await test.owner.call(own.addGateway, { body: post() });
    const { items } = await test.owner.call(own.gateways, {});
    expect(items.map(({ name, kind, ready }) => ({ name, kind, ready }))).toEqual([
      { name: 'heron', kind: 'smpp', ready: false },
      { name: 'post', kind: 'smtp', ready: false },
      { name: 'web-push', kind: 'web-push', ready: false },
    ]);
    expect(items[0]?.readiness[0]?.text).toBe('Not checked yet. Run “Check now”.');
    for (const gateway of ['heron', 'post'])
      expect(await test.owner.call(own.checkGateway, { params: { gateway } })).toMatchObject({ ok: true });
    expect((await test.owner.call(own.gateways, {})).items[0]).toMatchObject({ ready: true });
    expect(JSON.stringify(items)).not.toContain(SMS_ACCOUNT.password);
  });

  it('with a wrong password says so at the check', async () => {
    await test.owner.call(own.addGateway, { body: { ...heron(), name: 'wrong', password: 'nope' } });
    expect(await test.owner.call(own.checkGateway, { params: { gateway: 'wrong' } })).toMatchObject({ ok: false });
    await test.owner.call(own.removeGateway, { params: { gateway: 'wrong' } });
    await expect(test.owner.call(own.checkGateway, { params: { gateway: 'wrong' } })).rejects.toMatchObject({
      problem: 'not-found',
      detail: expect.stringContaining('The installation has no gateway wrong'),
    });
  });

  it('is no business of other members', async () => {
    const { client } = await join('per');
    await expect(client.call(own.gateways, {})).rejects.toMatchObject({ problem: 'role-insufficient' });
  });

  it('carries the mails of the team, such as invitations', async () => {
    const email = 'ilse@quillfell.example';
    const { invitation } = await test.owner.call(operations.members.add, { body: { email } });
    expect(invitation).toMatchObject({ mailed: true });
    await expect.poll(() => lastMail(email)?.text).toContain('/join?token=once-');
  });
});

describe('a way', () => {
  it('counts once the code that was sent there is entered', async () => {
    const { id, client } = await join('jon');
    const way = await client.call(own.add, { body: { kind: 'sms', number: NUMBER, timeZone: 'Europe/Oslo' } });
    expect(way).toMatchObject({ kind: 'sms', name: NUMBER, verified: false });
    const code = codeIn(lastText());
    const params = { way: way.id };
    await expect(client.call(own.test, { params })).rejects.toMatchObject({ problem: 'wrong-state' });
    await expect(client.call(own.verify, { params, body: { code: code === '000000' ? '000001' : '000000' } })).rejects.toMatchObject({
      problem: 'code-refused',
      detail: 'The code is wrong. 4 attempts are left.',
    });
    expect(await client.call(own.verify, { params, body: { code } })).toMatchObject({ verified: true });
    expect((await test.owner.call(operations.members.list, {})).items.find((one) => one.id === id)?.reachableBy).toEqual(['sms']);
    const kept = JSON.stringify(await test.service.parts.database.rows('SELECT * FROM _audit'));
    expect(kept).not.toContain(NUMBER);
  });

  it('takes five attempts, then another code, which is not sent at once again', async () => {
    const { client, email } = await join('siv');
    const { id } = await client.call(own.add, { body: { kind: 'mail', address: email } });
    await expect.poll(() => codeIn(lastMail(email)?.subject)).toBeTruthy();
    const code = codeIn(lastMail(email)?.subject);
    const wrong = code === '000000' ? '000001' : '000000';
    const verify = (given: string) => client.call(own.verify, { params: { way: id }, body: { code: given } });
    for (let i = 0; i < 5; i++) await expect(verify(wrong)).rejects.toMatchObject({ problem: 'code-refused' });
    await expect(verify(code)).rejects.toMatchObject({ detail: expect.stringContaining('tried too often') });
    const again = () => client.call(own.add, { body: { kind: 'mail', address: email } });
    await expect(again()).rejects.toMatchObject({ problem: 'rate-exceeded' });
    await test.service.parts.database.run('UPDATE memberWays SET codeExpiresAt = codeExpiresAt - INTERVAL 1 MINUTE WHERE id = ?', [id]);
    await again();
    await expect.poll(() => test.simulators.mail.mailsOf(email).length).toBe(2);
    await expect(verify(codeIn(lastMail(email)?.subject))).resolves.toMatchObject({ id, verified: true });
  });

  it('of another member is not there', async () => {
    const [one, other] = [await join('bran'), await join('tove')];
    const { way } = await browser(one.client);
    await expect(other.client.call(own.test, { params: { way: way.id } })).rejects.toMatchObject({ problem: 'not-found' });
    await expect(other.client.call(own.remove, { params: { way: way.id } })).rejects.toMatchObject({ problem: 'not-found' });
  });

  it('that is a browser is tested with a push, and goes when its subscription does', async () => {
    const { client } = await join('olaf');
    const { way, pushed, subscription } = await browser(client);
    expect(way).toMatchObject({ kind: 'browser', name: 'Firefox on Linux', verified: true });
    expect(await client.call(own.test, { params: { way: way.id } })).toMatchObject({ state: 'sent' });
    await expect.poll(() => pushed).toMatchObject([{ title: 'A test from Vivid Orchard', link: '/' }]);
    test.simulators.network.unsubscribe(subscription);
    expect(await client.call(own.test, { params: { way: way.id } })).toMatchObject({ state: 'failed' });
    expect((await client.call(own.list, {})).items).toEqual([]);
  });

  it.each([
    [{ kind: 'sms', number: '12' }, 'body.number'],
    [{ kind: 'mail', address: 'nobody' }, 'body.address'],
    [{ kind: 'sms', number: NUMBER, timeZone: 'Mars/Ridge' }, 'body.timeZone'],
  ])('that is wrong is refused: %j', async (body, path) => {
    await expect(test.owner.call(own.add, { body: body as never })).rejects.toMatchObject({
      problem: 'invalid-input',
      extras: { fields: [{ path }] },
    });
  });
});

describe('a message to a member', () => {
  const tell = (memberId: string, message: object = {}) =>
    test.service.parts.memberMessages.tell(memberId, {
      title: 'Ridge closed',
      body: 'The search is failing.',
      link: '/quillfell-hiker/live/overview',
      ...message,
    });
  const states = async (client: HttpClient) =>
    (await client.call(own.messages, {})).items.map(({ way, title, state, reason }) => ({
      way,
      title,
      state,
      ...(reason ? { reason } : {}),
    }));

  it('goes out on every verified way, and says what became of it', async () => {
    const { id, client, email } = await join('mara');
    const { pushed } = await browser(client);
    const mail = await client.call(own.add, { body: { kind: 'mail', address: email } });
    await expect.poll(() => codeIn(lastMail(email)?.subject)).toBeTruthy();
    await client.call(own.verify, { params: { way: mail.id }, body: { code: codeIn(lastMail(email)?.subject) } });
    await client.call(own.add, { body: { kind: 'sms', number: '+12025550148' } });
    expect(await tell(id), 'not on the one that is not verified').toBe(2);
    await expect.poll(() => pushed[0]).toMatchObject({ title: 'Ridge closed', body: 'The search is failing.' });
    await expect
      .poll(() => lastMail(email))
      .toMatchObject({ subject: 'Ridge closed', text: expect.stringContaining('/quillfell-hiker/live/overview') });
    await expect
      .poll(() => states(client))
      .toEqual([
        { way: 'mail', title: 'Ridge closed', state: 'sent' },
        { way: 'browser', title: 'Ridge closed', state: 'sent' },
      ]);
  });

  it('waits for the end of quiet hours, unless it is urgent', async () => {
    const { id, client } = await join('wren');
    const { way, pushed } = await browser(client);
    const minute = (offset: number) => new Date(Date.now() + offset * 60_000).toISOString().slice(11, 16);
    const quiet = { from: minute(-60), to: minute(60) };
    expect(await client.call(own.patch, { params: { way: way.id }, body: { quiet, timeZone: 'UTC' } })).toMatchObject({ quiet });
    await tell(id);
    expect(await states(client)).toMatchObject([{ state: 'waiting', reason: expect.stringMatching(/^Quiet hours until /) }]);
    await tell(id, { title: 'Everything fails', urgent: true });
    await expect.poll(() => pushed.map(({ title }) => title)).toEqual(['Everything fails']);
    await client.call(own.patch, { params: { way: way.id }, body: { urgentAnyway: false } });
    await tell(id, { title: 'Still failing', urgent: true });
    expect((await states(client))[0]).toMatchObject({ title: 'Still failing', state: 'waiting' });
  });

  it('is sent again when the network was away, whatever becomes of the gateways of environments', async () => {
    const { id, client } = await join('rolf');
    const { pushed } = await browser(client);
    test.simulators.network.setFault({ mode: 'refuse', status: 503, count: 1 });
    await tell(id);
    await expect.poll(() => states(client)).toMatchObject([{ state: 'waiting', reason: expect.stringContaining('503') }]);
    await expect.poll(() => pushed.length).toBe(1);
    await expect.poll(() => states(client)).toMatchObject([{ state: 'sent' }]);
  });

  it('to a member who was removed is gone with the member', async () => {
    const { id, client } = await join('dario');
    await browser(client);
    await test.owner.call(operations.members.remove, { params: { member: id } });
    expect(await tell(id)).toBe(0);
    expect(await test.service.parts.database.rows('SELECT id FROM memberWays WHERE memberId = ?', [id])).toEqual([]);
  });
});
