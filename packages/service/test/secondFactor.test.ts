/** Second factors of members: authenticator apps, recovery codes, and what asks for them. */
import { createHttpClient, type HttpClient, operations } from '@orchard/contract';
import { Secret, TOTP } from 'otpauth';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, memberClient, startTestService, type TestApp, type TestService } from './support.js';

const APP = 'quillfell-hiker';
const PASSWORD = 'larch-and-lantern';
const STEP_MS = 30_000;
const own = operations.secondFactors;
let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, APP);
});
afterAll(() => test.stop());

const emailOf = (name: string) => `${name}@quillfell.example`;
const anyone = () => createHttpClient({ address: test.address });
const run = (sql: string, values: unknown[]) => test.service.parts.database.run(sql, values);

type Person = { id: string; client: HttpClient; name: string };
async function join(name: string, role: 'viewer' | 'maintainer' = 'maintainer'): Promise<Person> {
  const { id } = await test.owner.call(operations.members.add, {
    body: { email: emailOf(name), name, password: PASSWORD, roles: [{ app: APP, role }] },
  });
  return { id, name, client: await memberClient(test.address, { email: emailOf(name), password: PASSWORD }) };
}

/** An authenticator app, with a clock that may be wrong. */
const codeOf = (secret: string, offsetMs = 0) =>
  new TOTP({ secret: Secret.fromBase32(secret), digits: 6, period: 30 }).generate({ timestamp: Date.now() + offsetMs });

async function enrol({ client }: Person): Promise<{ secret: string; id: string; recoveryCodes: string[] }> {
  const { id, secret, uri } = await client.call(own.addAuthenticator, { body: {} });
  expect(uri).toMatch(/^otpauth:\/\/totp\//);
  const added = await client.call(own.confirmAuthenticator, { params: { factor: id }, body: { code: codeOf(secret, -STEP_MS) } });
  return { id, secret, recoveryCodes: added.recoveryCodes as string[] };
}
const signIn = (name: string, code?: string) =>
  anyone().call(operations.members.signIn, {
    body: { email: emailOf(name), password: PASSWORD, as: 'token', ...(code === undefined ? {} : { code }) },
  });

describe('an authenticator app', () => {
  it('is asked for at the next sign-in, and its code works once', async () => {
    const jon = await join('jon');
    const before = await memberClient(test.address, { email: emailOf('jon'), password: PASSWORD });
    const { secret, recoveryCodes } = await enrol(jon);
    expect(new Set(recoveryCodes).size).toBe(10);
    await expect(before.call(operations.apps.list, {}), 'sessions without it have ended').rejects.toMatchObject({
      problem: 'member-sign-in-needed',
    });
    await expect(signIn('jon')).rejects.toMatchObject({ problem: 'second-factor-needed', extras: { methods: ['code'] } });
    const code = codeOf(secret);
    await expect(signIn('jon', code)).resolves.toMatchObject({ token: expect.any(String) });
    await expect(signIn('jon', code)).rejects.toMatchObject({
      problem: 'second-factor-refused',
      detail: 'This code was used already. Wait for the next one.',
    });
  });

  it('may have a clock that is 40 s off, but not eight minutes, which is said', async () => {
    const ines = await join('ines');
    const { secret } = await enrol(ines);
    await expect(signIn('ines', codeOf(secret, 40_000))).resolves.toMatchObject({ token: expect.any(String) });
    await expect(signIn('ines', codeOf(secret, -480_000))).rejects.toMatchObject({
      problem: 'second-factor-refused',
      detail: expect.stringMatching(/clock of your device is about (8|9) minutes behind/),
    });
    const siv = await join('siv');
    const { secret: other } = await enrol(siv);
    await run('UPDATE memberFactors SET lastStep = NULL', []);
    await expect(signIn('siv', codeOf(other, -40_000))).resolves.toMatchObject({ token: expect.any(String) });
  });

  it('does not count before its first code, which must be right', async () => {
    const wren = await join('wren');
    const { id } = await wren.client.call(own.addAuthenticator, { body: {} });
    await expect(wren.client.call(own.confirmAuthenticator, { params: { factor: id }, body: { code: '000000' } })).rejects.toMatchObject({
      problem: 'second-factor-refused',
    });
    expect(await wren.client.call(own.list, {})).toMatchObject({ items: [], recoveryCodes: 0 });
    await expect(signIn('wren')).resolves.toMatchObject({ token: expect.any(String) });
  });

  it('leaves no secret and no recovery code in the database', async () => {
    const { secret, recoveryCodes } = await enrol(await join('aino'));
    const { rows } = test.service.parts.database;
    const kept = JSON.stringify([
      await rows('SELECT * FROM memberFactors'),
      await rows('SELECT * FROM memberRecoveryCodes'),
      await rows('SELECT * FROM _audit'),
    ]);
    for (const text of [secret, ...recoveryCodes, ...recoveryCodes.map((code) => code.replaceAll('-', ''))])
      expect(kept).not.toContain(text);
  });

  it('slows down whoever guesses', async () => {
    await enrol(await join('dario'));
    const tries = async () => {
      for (let i = 0; i < 12; i++) {
        const refused = await signIn('dario', String(100_000 + i)).catch((error) => error);
        if (refused.problem === 'rate-exceeded') return i;
      }
      return 12;
    };
    expect(await tries()).toBeLessThan(10);
  });
});

describe('a recovery code', () => {
  it('works once in place of the second factor, with or without its hyphens', async () => {
    const { recoveryCodes } = await enrol(await join('bram'));
    const [first, second] = recoveryCodes as [string, string];
    await expect(signIn('bram', first.toUpperCase().replaceAll('-', ' '))).resolves.toMatchObject({ token: expect.any(String) });
    await expect(signIn('bram', first)).rejects.toMatchObject({ problem: 'second-factor-refused' });
    const { token } = await signIn('bram', second);
    const bram = createHttpClient({ address: test.address, headers: () => ({ authorization: `Bearer ${token}` }) });
    expect(await bram.call(own.list, {})).toMatchObject({ recoveryCodes: 8 });
    const { recoveryCodes: renewed } = await bram.call(own.renewCodes, {});
    expect(renewed).toHaveLength(10);
    await expect(signIn('bram', recoveryCodes[2])).rejects.toMatchObject({ problem: 'second-factor-refused' });
  });

  it('of one with no second factor cannot be made', async () => {
    const { client } = await join('femi');
    await expect(client.call(own.renewCodes, {})).rejects.toMatchObject({ problem: 'wrong-state' });
  });
});

describe('a sensitive change', () => {
  const agedSession = (memberId: string) =>
    run('UPDATE memberSessions SET confirmedAt = UTC_TIMESTAMP(3) - INTERVAL 11 MINUTE WHERE memberId = ?', [memberId]);

  it('asks again for the second factor once the sign-in was a while ago, and changes nothing until then', async () => {
    const mara = await join('mara');
    const { secret } = await enrol(mara);
    await agedSession(mara.id);
    const key = () =>
      mara.client.call(operations.clients.createKey, {
        params: { ...app.dev.params, client: 'office' },
        body: { name: 'nightly', scopes: ['records:read'] },
      });
    await expect(key()).rejects.toMatchObject({ problem: 'confirmation-needed', extras: { methods: ['code'] } });
    const keys = async () =>
      (await mara.client.call(operations.clients.list, { params: app.dev.params })).items.flatMap((client) => client.keys);
    expect((await keys()).map(({ name }) => name)).not.toContain('nightly');
    await expect(
      mara.client.call(own.confirm, { body: { password: PASSWORD } }),
      'a password is not a second factor',
    ).rejects.toMatchObject({
      problem: 'second-factor-needed',
    });
    await mara.client.call(own.confirm, { body: { code: codeOf(secret) } });
    await expect(key()).resolves.toMatchObject({ name: 'nightly' });
  });

  it('asks those without a second factor for their password', async () => {
    await agedSession((await test.owner.call(operations.members.readSession, {})).member.id);
    const change = () => test.owner.call(operations.environments.remove, { params: app.live.params });
    await expect(change()).rejects.toMatchObject({ problem: 'confirmation-needed', extras: { methods: ['password'] } });
    const jon = (await test.owner.call(operations.members.list, {})).items.find(({ name }) => name === 'jon');
    const raise = () => test.owner.call(operations.members.patch, { params: { member: jon?.id as string }, body: { owner: true } });
    await expect(raise()).rejects.toMatchObject({ problem: 'confirmation-needed' });
    await expect(test.owner.call(own.confirm, { body: { password: 'wrong-wrong' } })).rejects.toMatchObject({ problem: 'sign-in-refused' });
    await test.owner.call(own.confirm, { body: { password: 'orchard-in-bloom' } });
    await expect(raise()).resolves.toMatchObject({ owner: true });
  });

  it('that is not one goes on as before', async () => {
    const { id, client } = await join('chiara');
    await agedSession(id);
    await expect(
      client.call(operations.topics.put, { params: { ...app.dev.params, topic: 'ridge-weather' }, body: {} }),
    ).resolves.toMatchObject({ name: 'ridge-weather' });
  });
});

describe('an app that demands a second factor', () => {
  it('gives maintainers without one the rights of a developer, and says why', async () => {
    const bare = await join('tove');
    const safe = await join('olaf');
    await enrol(safe);
    await test.owner.call(operations.apps.patch, { params: { app: APP }, body: { secondFactor: true } });
    const close = ({ client }: Person) => client.call(operations.environments.patch, { params: app.dev.params, body: { mode: 'closed' } });
    await expect(close(bare)).rejects.toMatchObject({
      problem: 'role-insufficient',
      detail: expect.stringContaining('only with a second factor'),
    });
    expect(await bare.client.call(operations.environments.read, { params: app.dev.params })).toMatchObject({
      role: 'developer',
      secondFactorNeeded: true,
    });
    expect(await bare.client.call(own.list, {})).toMatchObject({ demandedBy: [APP] });
    await expect(close(safe)).resolves.toMatchObject({ mode: 'closed', role: 'maintainer' });
    await enrol(bare);
    await expect(close(bare)).resolves.toMatchObject({ role: 'maintainer', secondFactorNeeded: false });
    await test.owner.call(operations.apps.patch, { params: { app: APP }, body: { secondFactor: false } });
  });
});

describe('somebody who lost the second factor', () => {
  it('has it removed by an owner, who sees who has one, and is signed out', async () => {
    const rolf = await join('rolf', 'viewer');
    const { id: factor } = await enrol(rolf);
    const seen = async () => (await test.owner.call(operations.members.list, {})).items.find(({ id }) => id === rolf.id)?.secondFactor;
    expect(await seen()).toBe(true);
    await test.owner.call(own.reset, { params: { member: rolf.id } });
    expect(await seen()).toBe(false);
    await expect(rolf.client.call(own.list, {})).rejects.toMatchObject({ problem: 'member-sign-in-needed' });
    const { token } = await signIn('rolf');
    const again = createHttpClient({ address: test.address, headers: () => ({ authorization: `Bearer ${token}` }) });
    await expect(again.call(own.remove, { params: { factor } })).rejects.toMatchObject({ problem: 'not-found' });
  });
});
