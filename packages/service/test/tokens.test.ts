/** Automation tokens: what scripts may do with them, and when they end. */
import { createHttpClient, type HttpClient, operations, type Role } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, memberClient, startTestService, type TestApp, type TestService } from './support.js';

const APP = 'quillfell-hiker';
const PASSWORD = 'larch-and-lantern';
const own = operations.tokens;
let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, APP);
  await makeApp(test, 'quillfell-warden');
});
afterAll(() => test.stop());

const scripted = (token: string) => createHttpClient({ address: test.address, headers: () => ({ authorization: `Bearer ${token}` }) });
const create = (role: Role = 'developer', by: HttpClient = test.owner, environment: string | null = 'dev') =>
  by.call(own.create, { body: { name: 'nightly setup', roles: [{ app: APP, role, ...(environment ? { environment } : {}) }] } });
const topic = (client: HttpClient, params = app.dev.params) =>
  client.call(operations.topics.put, { params: { ...params, topic: 'ridge-weather' }, body: {} });
async function join(name: string, role: Role) {
  const email = `${name}@quillfell.example`;
  const { id } = await test.owner.call(operations.members.add, { body: { email, name, password: PASSWORD, roles: [{ app: APP, role }] } });
  return { id, client: await memberClient(test.address, { email, password: PASSWORD }) };
}

describe('an automation token', () => {
  it('calls the API within its roles, under its own name, and shows when it was used', async () => {
    const { id, token, hint, roles } = await create();
    expect(token).toMatch(/^atok-[0-9a-z]{26}-[0-9a-z]{6}$/);
    expect(token.endsWith(hint)).toBe(true);
    expect(roles).toEqual([{ app: APP, environment: 'dev', role: 'developer' }]);
    const script = scripted(token);
    await topic(script);
    await expect(topic(script, app.live.params)).rejects.toMatchObject({ problem: 'role-insufficient' });
    await expect(script.call(operations.environments.patch, { params: app.dev.params, body: { mode: 'closed' } })).rejects.toMatchObject({
      problem: 'role-insufficient',
    });
    expect((await script.call(operations.apps.list, {})).items.map(({ name, environments }) => [name, environments.length])).toEqual([
      [APP, 1],
    ]);
    const listed = (await test.owner.call(own.list, {})).items.find((one) => one.id === id);
    expect(listed).toMatchObject({ lastUsedAt: expect.any(String), lastUsedFrom: '127.0.0.1', createdBy: { name: 'Mira Quill' } });
    const { items } = await test.owner.call(operations.audit.list, { query: { filter: "kind = 'topic'" } });
    expect(items[0]).toMatchObject({ actor: { kind: 'token', id, name: 'nightly setup' }, subject: 'ridge-weather' });
  });

  it('is shown once and stored as a hash', async () => {
    const { token } = await create();
    const kept = JSON.stringify([
      await test.service.parts.database.rows('SELECT * FROM automationTokens'),
      await test.service.parts.database.rows('SELECT * FROM _audit'),
    ]);
    expect(kept).not.toContain(token);
    expect(JSON.stringify(await test.owner.call(own.list, {}))).not.toContain(token);
  });

  it('cannot do what is for people: tokens, members, sessions', async () => {
    const script = scripted((await create('owner')).token);
    await expect(create('viewer', script)).rejects.toMatchObject({
      problem: 'role-insufficient',
      detail: expect.stringContaining('for people'),
    });
    await expect(script.call(operations.members.sessions, {})).rejects.toMatchObject({ problem: 'role-insufficient' });
    await expect(script.call(operations.members.add, { body: { email: 'siv@quillfell.example', owner: true } })).rejects.toMatchObject({
      problem: 'role-insufficient',
    });
  });

  it('has at most the role of who creates it, who must be a maintainer', async () => {
    const jon = await join('jon', 'developer');
    await expect(create('viewer', jon.client)).rejects.toMatchObject({
      problem: 'role-insufficient',
      detail: expect.stringContaining('Your role is developer.'),
    });
    const ines = await join('ines', 'maintainer');
    await expect(create('owner', ines.client)).rejects.toMatchObject({ problem: 'role-insufficient' });
    const made = await create('maintainer', ines.client, null);
    expect(made.roles.map(({ environment }) => environment)).toEqual(['dev', 'live']);
    expect((await jon.client.call(own.list, {})).items).toEqual([]);
    const warden = { app: 'quillfell-warden', environment: 'dev', role: 'viewer' as const };
    await expect(ines.client.call(own.create, { body: { name: 'x', roles: [warden] } })).rejects.toMatchObject({
      problem: 'role-insufficient',
      detail: expect.stringContaining('You have no role there.'),
    });
    await expect(
      ines.client.call(own.create, { body: { name: 'x', roles: [{ ...warden, app: APP, environment: 'weather' }] } }),
    ).rejects.toMatchObject({ problem: 'not-found' });
  });

  it('cannot be created while the app holds the role back for want of a second factor', async () => {
    const siv = await join('siv', 'maintainer');
    const demand = (secondFactor: boolean) => test.owner.call(operations.apps.patch, { params: { app: APP }, body: { secondFactor } });
    await demand(true);
    await expect(create('viewer', siv.client)).rejects.toMatchObject({
      problem: 'role-insufficient',
      detail: expect.stringContaining('You have the role maintainer, but quillfell-hiker gives its rights only with a second factor'),
    });
    await demand(false);
    expect(await create('viewer', siv.client)).toMatchObject({ name: expect.any(String) });
  });

  it('ends when it is revoked or has expired, and says so', async () => {
    const { id, token } = await create();
    await topic(scripted(token));
    await test.owner.call(own.revoke, { params: { token: id } });
    await expect(topic(scripted(token))).rejects.toMatchObject({
      problem: 'member-sign-in-needed',
      detail: expect.stringContaining('expired or was revoked'),
    });
    const short = await create();
    await test.service.parts.database.run('UPDATE automationTokens SET expiresAt = UTC_TIMESTAMP(3) WHERE id = ?', [short.id]);
    await expect(topic(scripted(short.token))).rejects.toMatchObject({ problem: 'member-sign-in-needed' });
    await expect(test.owner.call(own.revoke, { params: { token: 'nothing' } })).rejects.toMatchObject({ problem: 'not-found' });
  });
});

it('a member who is removed loses page, stream and token within five seconds', async () => {
  const { id, client } = await join('bram', 'maintainer');
  const { token } = await create('developer', client);
  const streams = await Promise.all(
    [client, scripted(token)].map(async (one) => {
      const reply = await one.open(operations.telemetry.changes, { params: app.dev.params });
      const text: string[] = [];
      const ended = (async () => {
        for await (const chunk of reply.body as unknown as AsyncIterable<Uint8Array>) text.push(Buffer.from(chunk).toString());
      })().catch(() => undefined);
      return { ended, text };
    }),
  );
  const removedAt = Date.now();
  await test.owner.call(operations.members.remove, { params: { member: id } });
  await expect(client.call(operations.apps.list, {})).rejects.toMatchObject({ problem: 'member-sign-in-needed' });
  await expect(topic(scripted(token))).rejects.toMatchObject({ problem: 'member-sign-in-needed' });
  await Promise.all(streams.map(({ ended }) => ended));
  expect(Date.now() - removedAt).toBeLessThan(5_000);
  for (const { text } of streams) expect(text.join('')).toContain('event: ended');
});
