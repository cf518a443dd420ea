/** The team: invitations, roles, owners, sessions and mail addresses of members. */
import { createHttpClient, type HttpClient, operations, type Role } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, memberClient, OWNER, startTestService, type TestApp, type TestService, mailSettings } from './support.js';

const APP = 'quillfell-hiker';
const PASSWORD = 'larch-and-lantern';
let test: TestService;
let bare: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'), mailSettings);
  app = await makeApp(test, APP);
  await makeApp(test, 'quillfell-warden');
  bare = await startTestService(inject('databaseUrl'));
  await makeApp(bare, APP);
});
afterAll(async () => {
  await test.stop();
  await bare.stop();
});

const anyone = (on = test) => createHttpClient({ address: on.address });
const emailOf = (name: string) => `${name}@quillfell.example`;
const invite = (name: string, roles: { app: string; role: Role }[] = [{ app: APP, role: 'developer' }], on = test) =>
  on.owner.call(operations.members.add, { body: { email: emailOf(name), roles } });
const accept = (token: string, name: string, on = test, email = emailOf(name)) =>
  anyone(on).call(operations.members.accept, { body: { token, email, name, password: PASSWORD, as: 'token' } });
const tokenIn = (text: string) => /token=(\S+)/.exec(text)?.[1] as string;
/** The latest mail to an address. */
const mailTo = async (address: string): Promise<{ subject: string; text: string }> => {
  await expect.poll(() => test.simulators.mail.mailsOf(address).length).toBeGreaterThan(0);
  return test.simulators.mail.mailsOf(address).at(-1) as { subject: string; text: string };
};
const listed = async (id: string, by: HttpClient = test.owner) =>
  (await by.call(operations.members.list, {})).items.find((one) => one.id === id);
const enter = (name: string, on = test) => memberClient(on.address, { email: emailOf(name), password: PASSWORD });

describe('an invitation', () => {
  it('goes out by mail, is accepted once, and gives the roles it names', async () => {
    const { id, invitation, joinedAt } = await invite('ines');
    expect(invitation).toMatchObject({ mailed: true });
    expect(invitation?.address).toBeUndefined();
    expect(Date.parse(invitation?.expiresAt ?? '') - Date.now()).toBeGreaterThan(6.9 * 86_400_000);
    expect(joinedAt).toBeNull();
    const mail = await mailTo(emailOf('ines'));
    expect(mail.subject).toBe(`${OWNER.name} invites you to Vivid Orchard`);
    const token = tokenIn(mail.text);
    expect(await accept(token, 'ines')).toMatchObject({ member: { id, name: 'ines', owner: false }, token: expect.any(String) });
    await expect(accept(token, 'ines')).rejects.toMatchObject({
      problem: 'invitation-refused',
      detail: expect.stringContaining('used already'),
    });
    expect(await listed(id)).toMatchObject({
      joinedAt: expect.any(String),
      roles: [
        { app: APP, environment: 'dev', role: 'developer' },
        { app: APP, environment: 'live', role: 'developer' },
      ],
    });
  });

  it('leaves no token in the database, and nobody in who has not accepted', async () => {
    const { id } = await invite('wren');
    const token = tokenIn((await mailTo(emailOf('wren'))).text);
    const rows = await test.service.parts.database.rows<{ tokenHash: string }>(
      'SELECT tokenHash FROM memberInvitations WHERE memberId = ?',
      [id],
    );
    expect(rows[0]?.tokenHash).not.toContain(token);
    await expect(memberClient(test.address, { email: emailOf('wren'), password: '' })).rejects.toMatchObject({
      problem: 'sign-in-refused',
    });
  });

  it('is refused with another mail address, and stays good for its own', async () => {
    await invite('aino');
    const token = tokenIn((await mailTo(emailOf('aino'))).text);
    await expect(accept(token, 'aino', test, 'mallory@quillfell.example')).rejects.toMatchObject({
      problem: 'invitation-refused',
      detail: expect.stringContaining('It is for another mail address'),
    });
    await expect(accept(token, 'aino')).resolves.toMatchObject({ member: { name: 'aino' } });
  });

  it('is refused with a password that is easy to guess, and stays good', async () => {
    await invite('femi');
    const token = tokenIn((await mailTo(emailOf('femi'))).text);
    const weak = { token, email: emailOf('femi'), name: 'Femi', password: 'password1' };
    await expect(anyone().call(operations.members.accept, { body: weak })).rejects.toMatchObject({ problem: 'invalid-input' });
    await accept(token, 'femi');
  });

  it('ends after seven days, and when a later one is sent', async () => {
    const { id } = await invite('bram');
    const first = tokenIn((await mailTo(emailOf('bram'))).text);
    await test.owner.call(operations.members.invite, { params: { member: id } });
    await expect.poll(() => test.simulators.mail.mailsOf(emailOf('bram')).length).toBe(2);
    await expect(accept(first, 'bram')).rejects.toMatchObject({ detail: expect.stringContaining('replaced by a later one') });
    const second = tokenIn((await mailTo(emailOf('bram'))).text);
    await test.service.parts.database.run(
      'UPDATE memberInvitations SET expiresAt = UTC_TIMESTAMP(3) - INTERVAL 1 SECOND WHERE memberId = ?',
      [id],
    );
    await expect(accept(second, 'bram')).rejects.toMatchObject({ detail: expect.stringContaining('It has expired') });
  });

  it('is not sent again to who has joined, nor to an address twice', async () => {
    const { items } = await test.owner.call(operations.members.list, {});
    const ines = items.find(({ name }) => name === 'ines')?.id as string;
    await expect(test.owner.call(operations.members.invite, { params: { member: ines } })).rejects.toMatchObject({
      problem: 'wrong-state',
    });
    await expect(invite('ines')).rejects.toMatchObject({ problem: 'already-exists' });
  });

  it('to an environment that is not there stores nothing', async () => {
    const roles = [{ app: APP, environment: 'weather', role: 'viewer' as const }];
    await expect(test.owner.call(operations.members.add, { body: { email: emailOf('nobody'), roles } })).rejects.toMatchObject({
      problem: 'not-found',
      detail: 'There is no environment `quillfell-hiker/weather`.',
    });
    expect((await test.owner.call(operations.members.list, {})).items.some(({ email }) => email === emailOf('nobody'))).toBe(false);
  });

  it('is handed to the owner where there is no mail server', async () => {
    const { invitation } = await invite('chiara', undefined, bare);
    expect(invitation).toMatchObject({ mailed: false, reason: expect.stringContaining('has no mail server (ORCHARD_SMTP_URL)') });
    await expect(accept(tokenIn(invitation?.address ?? ''), 'chiara', bare)).resolves.toMatchObject({ member: { name: 'chiara' } });
  });

  it('is handed to the owner when the mail server refuses the mail', async () => {
    test.simulators.mail.faults.set({ mode: 'refuse', status: 550, count: 1 });
    const { invitation } = await invite('dario');
    expect(invitation).toMatchObject({ mailed: false, reason: expect.stringMatching(/did not accept the mail: .*550/) });
    await accept(tokenIn(invitation?.address ?? ''), 'dario');
  });
});

describe('roles', () => {
  it('are given by environment, and taken away at once', async () => {
    const { id } = await invite('jon', [{ app: APP, role: 'viewer' }]);
    await accept(tokenIn((await mailTo(emailOf('jon'))).text), 'jon');
    const jon = await enter('jon');
    const roles = [
      { app: APP, environment: 'dev', role: 'maintainer' as const },
      { app: APP, environment: 'live', role: null },
    ];
    const changed = await test.owner.call(operations.members.patch, { params: { member: id }, body: { roles } });
    expect(changed.roles).toEqual([{ app: APP, environment: 'dev', role: 'maintainer' }]);
    expect((await jon.call(operations.environments.read, { params: app.dev.params })).role).toBe('maintainer');
    await expect(jon.call(operations.environments.read, { params: app.live.params })).rejects.toMatchObject({
      problem: 'role-insufficient',
    });
    expect(
      (await jon.call(operations.apps.list, {})).items.map(({ name, environments }) => [name, environments.map((one) => one.name)]),
    ).toEqual([[APP, ['dev']]]);
  });

  it('show a member others with the roles they share, and no more', async () => {
    const { id } = await invite('siv', [{ app: 'quillfell-warden', role: 'viewer' }]);
    const jon = await enter('jon');
    expect(await listed(id, jon)).toBeUndefined();
    await test.owner.call(operations.members.patch, {
      params: { member: id },
      body: { roles: [{ app: APP, environment: 'dev', role: 'viewer' }] },
    });
    expect(await listed(id, jon)).toMatchObject({ email: null, roles: [{ app: APP, environment: 'dev', role: 'viewer' }] });
  });

  it('cannot be raised by oneself', async () => {
    const jon = await enter('jon');
    const own = (await jon.call(operations.members.readSession, {})).member.id;
    for (const body of [{ owner: true }, { roles: [{ app: APP, role: 'owner' as const }] }])
      await expect(jon.call(operations.members.patch, { params: { member: own }, body })).rejects.toMatchObject({
        problem: 'role-insufficient',
      });
    await expect(jon.call(operations.members.add, { body: { email: emailOf('friend'), owner: true } })).rejects.toMatchObject({
      problem: 'role-insufficient',
    });
  });

  it('of a hundred members in forty environments are listed whole', async () => {
    const { database } = bare.service.parts;
    for (let i = 0; i < 19; i++) await bare.owner.call(operations.environments.create, { params: { app: APP }, body: { name: `e${i}` } });
    for (let i = 0; i < 99; i++)
      await database.run('INSERT INTO members (id, email, name, owner, createdAt) VALUES (?, ?, ?, 0, UTC_TIMESTAMP(3))', [
        `many-${i}`,
        emailOf(`many-${i}`),
        `Many ${i}`,
      ]);
    await database.run(
      "INSERT INTO memberRoles (memberId, environmentId, role) SELECT m.id, e.id, 'viewer' FROM members m JOIN environments e WHERE m.id LIKE 'many-%'",
    );
    const { items } = await bare.owner.call(operations.members.list, {});
    const many = items.filter(({ id }) => id.startsWith('many-'));
    expect([many.length, new Set(many.map(({ roles }) => roles.length))]).toEqual([99, new Set([21])]);
  }, 240_000);
});

describe('owners', () => {
  it('cannot all leave or step down, not even two at the same moment', async () => {
    const own = (await test.owner.call(operations.members.readSession, {})).member.id;
    await expect(test.owner.call(operations.members.remove, { params: { member: own } })).rejects.toMatchObject({
      problem: 'wrong-state',
      detail: `${OWNER.name} is the only owner. Without an owner no one could add members any more.`,
    });
    await expect(test.owner.call(operations.members.patch, { params: { member: own }, body: { owner: false } })).rejects.toMatchObject({
      problem: 'wrong-state',
    });
    const second = await test.owner.call(operations.members.add, {
      body: { email: emailOf('second'), name: 'Second', owner: true, password: PASSWORD },
    });
    const other = await enter('second');
    const stepDown = (by: HttpClient, member: string) =>
      by.call(operations.members.patch, { params: { member }, body: { owner: false } }).then(
        () => 'done',
        (error) => error.problem,
      );
    const outcomes = await Promise.all([stepDown(test.owner, own), stepDown(other, second.id)]);
    expect(outcomes.filter((one) => one === 'done')).toHaveLength(1);
    const left = (await (outcomes[0] === 'done' ? other : test.owner).call(operations.members.list, {})).items.filter(({ owner }) => owner);
    expect(left).toHaveLength(1);
    if (outcomes[0] === 'done') await other.call(operations.members.patch, { params: { member: own }, body: { owner: true } });
  });

  it('who were only invited do not count', async () => {
    await bare.owner.call(operations.members.add, { body: { email: emailOf('later'), owner: true } });
    const own = (await bare.owner.call(operations.members.readSession, {})).member.id;
    await expect(bare.owner.call(operations.members.remove, { params: { member: own } })).rejects.toMatchObject({ problem: 'wrong-state' });
  });
});

describe('sessions', () => {
  it('are listed with where they come from, and ended one by one or all others at once', async () => {
    const [one, two, three] = [await enter('jon'), await enter('jon'), await enter('jon')];
    const items = (await one.call(operations.members.sessions, {})).items;
    expect(items.filter(({ current }) => current)).toHaveLength(1);
    expect(items[0]).toMatchObject({ kind: 'token', address: expect.stringMatching(/127\.0\.0\.1|::1/), lastSeenAt: expect.any(String) });
    expect(JSON.stringify(items)).not.toContain('mtok-');
    const own = (await two.call(operations.members.sessions, {})).items.find(({ current }) => current)?.id as string;
    await one.call(operations.members.endSession, { params: { session: own } });
    await expect(two.call(operations.members.readSession, {})).rejects.toMatchObject({ problem: 'member-sign-in-needed' });
    expect((await one.call(operations.members.endOthers, {})).ended).toBeGreaterThanOrEqual(1);
    await expect(three.call(operations.members.readSession, {})).rejects.toMatchObject({ problem: 'member-sign-in-needed' });
    expect((await one.call(operations.members.sessions, {})).items).toHaveLength(1);
  });

  it('of others cannot be ended', async () => {
    const jon = await enter('jon');
    const owners = (await test.owner.call(operations.members.sessions, {})).items[0]?.id as string;
    for (const session of [owners, 'nothing', '%'])
      await expect(jon.call(operations.members.endSession, { params: { session } })).rejects.toMatchObject({ problem: 'not-found' });
  });
});

describe('a new mail address', () => {
  it('is used once it is confirmed from there, and the former one is told', async () => {
    const ines = await enter('ines');
    const change = (email: string, password = PASSWORD) => ines.call(operations.members.changeEmail, { body: { email, password } });
    await expect(change('ines@hikers.example', 'wrong-password')).rejects.toMatchObject({ problem: 'sign-in-refused' });
    await expect(change(OWNER.email)).rejects.toMatchObject({ problem: 'already-exists' });
    await change('ines@hikers.example');
    await enter('ines');
    const token = tokenIn((await mailTo('ines@hikers.example')).text);
    expect(await anyone().call(operations.members.confirmEmail, { body: { token } })).toEqual({ email: 'ines@hikers.example' });
    await expect(anyone().call(operations.members.confirmEmail, { body: { token } })).rejects.toMatchObject({ problem: 'link-refused' });
    await expect(enter('ines')).rejects.toMatchObject({ problem: 'sign-in-refused' });
    await memberClient(test.address, { email: 'ines@hikers.example', password: PASSWORD });
    await expect.poll(async () => (await mailTo(emailOf('ines'))).subject).toBe('Your mail address for Vivid Orchard was changed');
  });

  it('needs a mail server, and is not changed without', async () => {
    const chiara = await enter('chiara', bare);
    await expect(
      chiara.call(operations.members.changeEmail, { body: { email: 'c@hikers.example', password: PASSWORD } }),
    ).rejects.toMatchObject({ problem: 'gateway-missing' });
  });
});
