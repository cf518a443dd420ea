import { createHttpClient, operations } from '@orchard/contract';
import { formatKey } from '@orchard/core';
import { afterAll, beforeAll, describe, expect, inject, it, vi } from 'vitest';
import { eventually, makeApp, OWNER, PASSWORD, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
const problem = (name: string) => ({ type: `/docs/problems/${name}` });
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
});
afterAll(() => test.stop());

describe('keys', () => {
  it.each([
    ['none', () => undefined, 401, 'key-missing'],
    ['one with a letter wrong', () => app.dev.clientKey.replace(/.$/, (letter) => (letter === 'x' ? 'y' : 'x')), 401, 'key-mistyped'],
    ['half a key', () => app.dev.clientKey.slice(0, 20), 401, 'key-mistyped'],
    ['something else', () => 'hello', 401, 'key-mistyped'],
    ['one of nowhere', () => formatKey('client', new Uint8Array(16)), 401, 'key-unknown'],
  ])('tell %s apart', async (_name, key, status, name) => {
    const text = key();
    const answer = await test.app('GET', '/data/huts', text ? { key: text } : {});
    expect(answer.status).toBe(status);
    expect(answer.body.type).toContain(name);
  });

  it('stop at once when revoked, and say so', async () => {
    const params = { ...app.dev.params, client: 'hiker-ios' };
    const key = await test.owner.call(operations.clients.createKey, { params, body: { name: 'second' } });
    expect((await test.app('GET', '/push-key', { key: key.key as string })).status).toBe(200);
    await test.owner.call(operations.clients.revokeKey, { params: { ...params, key: key.id } });
    const refused = await test.app('GET', '/push-key', { key: key.key as string });
    expect(refused).toMatchObject({ status: 401, body: problem('key-revoked') });
    const recorded = await eventually(
      async () =>
        (await test.owner.call(operations.telemetry.requests, { params: app.dev.params, query: { filter: "problem = 'key-revoked'" } }))
          .items[0],
    );
    expect(recorded.id).toBe(refused.body.request);
  });

  it('that are mistyped are recorded for the owner of the installation, without their text', async () => {
    const wrong = `${app.dev.clientKey.slice(0, -1)}!`;
    const refused = await test.app('GET', '/push-key', { key: wrong });
    const recorded = await eventually(async () =>
      (await test.owner.call(operations.telemetry.installationRequests, { query: { filter: "problem = 'key-mistyped'" } })).items.find(
        ({ id }) => id === refused.body.request,
      ),
    );
    expect(recorded).toMatchObject({ path: '/app/v1/push-key', status: 401, client: null });
    expect(JSON.stringify(recorded)).not.toContain(wrong);
  });

  it('see nothing of another environment', async () => {
    const runa = await signUp(test, app.dev.clientKey, 'runa');
    await test.app('POST', '/data/huts', { key: app.dev.clientKey, token: runa.token, body: { name: 'x' } });
    expect(await test.app('GET', '/data/huts', { key: app.live.clientKey })).toMatchObject({
      status: 404,
      body: problem('collection-unknown'),
    });
    expect(await test.app('GET', '/users/me', { key: app.live.clientKey, token: runa.token })).toMatchObject({
      status: 401,
      body: problem('token-invalid'),
    });
  });

  it('say which kind and scope a call takes', async () => {
    const body = { title: 'x', audience: { everyone: true } };
    expect(await test.app('POST', '/notifications', { key: app.dev.clientKey, body })).toMatchObject({
      status: 403,
      body: problem('key-wrong-kind'),
    });
    const weather = await test.owner.call(operations.clients.createKey, {
      params: { ...app.dev.params, client: 'office' },
      body: { name: 'weather', scopes: ['records:write'] },
    });
    expect(await test.app('POST', '/notifications', { key: weather.key as string, body })).toMatchObject({
      status: 403,
      body: { ...problem('scope-missing'), detail: expect.stringContaining('`notify:send`') },
    });
    expect(await test.app('GET', '/users/me', { key: app.dev.serverKey })).toMatchObject({ status: 403, body: problem('key-wrong-kind') });
  });

  it('are kept hashed, and a server key is shown once', async () => {
    const { items } = await test.owner.call(operations.clients.list, { params: app.dev.params });
    expect(items.find(({ name }) => name === 'office')?.keys[0]).not.toHaveProperty('key');
    const rows = await test.service.parts.database.rows('SELECT * FROM `keys`');
    expect(JSON.stringify(rows)).not.toContain(app.dev.serverKey.slice(5, 20));
    expect(JSON.stringify(rows)).not.toContain(app.dev.clientKey.slice(5, 20));
  });
});

describe('app users', () => {
  const key = () => app.dev.clientKey;
  it('sign up once, in, and change themselves', async () => {
    const ola = await signUp(test, key(), 'ola');
    expect(await test.app('POST', '/users', { key: key(), body: { email: 'OLA@hikers.example', password: PASSWORD } })).toMatchObject({
      status: 409,
    });
    expect((await test.app('POST', '/sessions', { key: key(), body: { email: ola.email, password: PASSWORD } })).status).toBe(201);
    for (const email of [ola.email, 'nobody@hikers.example'])
      expect(await test.app('POST', '/sessions', { key: key(), body: { email, password: 'wrong-password' } })).toMatchObject({
        status: 401,
        body: problem('sign-in-refused'),
      });
    await test.app('PATCH', '/users/me', { key: key(), token: ola.token, body: { name: 'Ola Ford', data: { pace: 'slow', units: 'km' } } });
    const me = await test.app('PATCH', '/users/me', { key: key(), token: ola.token, body: { data: { pace: null } } });
    expect(me.body).toMatchObject({ name: 'Ola Ford', data: { units: 'km' } });
    expect(await test.app('PATCH', '/users/me', { key: key(), token: ola.token, body: { roles: ['warden'] } })).toMatchObject({
      status: 422,
      body: { fields: [{ path: 'body.roles' }] },
    });
    expect(await test.app('GET', '/users/me', { key: key() })).toMatchObject({ status: 401, body: problem('token-missing') });
  });

  it('keep data nested 25 deep, and are told when it is deeper', async () => {
    const nested = (depth: number): object => (depth === 0 ? {} : { inner: nested(depth - 1) });
    const { token } = await signUp(test, key(), 'deep');
    const change = (data: object) => test.app('PATCH', '/users/me', { key: key(), token, body: { data } });
    expect((await change(nested(24))).status).toBe(200);
    expect(await change(nested(60))).toMatchObject({
      status: 422,
      body: { fields: [{ path: 'body.data', expected: 'a JSON object, nested at most 25 deep' }] },
    });
  });

  it('renew with a refresh token once; an old one ends the session with all its tokens', async () => {
    const uma = await signUp(test, key(), 'uma');
    const renew = (refreshToken: string) => test.app('POST', '/sessions', { key: key(), body: { refreshToken } });
    const second = await renew(uma.refreshToken);
    expect(second.status).toBe(201);
    expect((await test.app('GET', '/users/me', { key: key(), token: second.body.accessToken })).status).toBe(200);
    await renew(second.body.refreshToken);
    expect(await renew(uma.refreshToken)).toMatchObject({ status: 401, body: problem('session-ended') });
    expect(await renew(second.body.refreshToken)).toMatchObject({ status: 401, body: problem('session-ended') });
    expect(await test.app('GET', '/users/me', { key: key(), token: second.body.accessToken })).toMatchObject({
      status: 401,
      body: problem('session-ended'),
    });
    expect(await renew(`${uma.refreshToken}x`)).toMatchObject({ status: 401, body: problem('token-invalid') });
  });

  it('are told when their access token has expired', async () => {
    const vito = await signUp(test, key(), 'vito');
    const clock = vi.spyOn(test.service.parts.clock, 'now').mockReturnValue(Date.now() + 11 * 60_000);
    try {
      expect(await test.app('GET', '/users/me', { key: key(), token: vito.token })).toMatchObject({
        status: 401,
        body: problem('token-expired'),
      });
    } finally {
      clock.mockRestore();
    }
  });

  it('are out when signed out or disabled', async () => {
    const zeno = await signUp(test, key(), 'zeno');
    await test.app('DELETE', '/sessions/current', { key: key(), token: zeno.token });
    expect((await test.app('GET', '/users/me', { key: key(), token: zeno.token })).status).toBe(401);
    const again = await test.app('POST', '/sessions', { key: key(), body: { email: zeno.email, password: PASSWORD } });
    await test.owner.call(operations.users.patch, { params: { ...app.dev.params, user: zeno.id }, body: { disabled: true } });
    expect((await test.app('GET', '/users/me', { key: key(), token: again.body.accessToken })).status).toBe(401);
    expect((await test.app('POST', '/sessions', { key: key(), body: { email: zeno.email, password: PASSWORD } })).status).toBe(401);
  });
});

describe('members', () => {
  it('cannot set the service up a second time', async () => {
    await expect(
      createHttpClient({ address: test.address }).call(operations.members.setUp, { body: { token: 'once-x', ...OWNER } }),
    ).rejects.toMatchObject({ problem: 'setup-done' });
  });

  it('with a cookie write only with the value of their session', async () => {
    const reply = await fetch(`${test.address}/manage/v1/session`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ email: OWNER.email, password: OWNER.password }),
    });
    const cookie = reply.headers.get('set-cookie') as string;
    expect(cookie).toMatch(/HttpOnly/i);
    expect(cookie).toMatch(/SameSite=Lax/i);
    const { csrf } = (await reply.json()) as { csrf: string };
    const make = (headers: Record<string, string>) =>
      fetch(`${test.address}/manage/v1/apps`, {
        method: 'POST',
        headers: { 'content-type': 'application/json', cookie: cookie.split(';')[0] as string, ...headers },
        body: JSON.stringify({ name: 'by-cookie' }),
      });
    expect((await make({})).status).toBe(403);
    expect((await make({ 'orchard-csrf': 'x' })).status).toBe(403);
    expect((await make({ 'orchard-csrf': csrf })).status).toBe(201);
  });

  it('do what their role allows, and nothing in an app they have no role in', async () => {
    const person = { email: 'per@quillfell.example', name: 'Per Cairn', password: PASSWORD };
    await test.owner.call(operations.members.add, { body: { ...person, roles: [{ app: app.name, role: 'viewer' }] } });
    const { token } = await createHttpClient({ address: test.address }).call(operations.members.signIn, {
      body: { email: person.email, password: PASSWORD, as: 'token' },
    });
    const viewer = createHttpClient({ address: test.address, headers: () => ({ authorization: `Bearer ${token}` }) });
    expect((await viewer.call(operations.apps.list, {})).items.map(({ name }) => name)).toEqual([app.name]);
    await viewer.call(operations.telemetry.usage, { params: app.dev.params });
    await expect(
      viewer.call(operations.notifications.sendManaged, { params: app.dev.params, body: { title: 'x', audience: { everyone: true } } }),
    ).rejects.toMatchObject({ problem: 'role-insufficient', detail: 'This needs the role developer; yours is viewer. Ask an owner.' });
    const other = await makeApp(test, 'other-app');
    await expect(viewer.call(operations.telemetry.usage, { params: other.dev.params })).rejects.toMatchObject({
      problem: 'role-insufficient',
    });
  });
});

describe('websites', () => {
  it('are turned away from an origin that is not listed, readably; one click allows it', async () => {
    const client = await test.owner.call(operations.clients.create, {
      params: app.dev.params,
      body: { name: 'hiker-web', kind: 'web', origins: ['https://hiker.quillfell.example'] },
    });
    const key = client.keys[0]?.key as string;
    const from = (origin: string) => test.app('GET', '/push-key', { key, headers: { origin } });
    const allowed = await from('https://hiker.quillfell.example');
    expect([allowed.status, allowed.headers.get('access-control-allow-origin')]).toEqual([200, 'https://hiker.quillfell.example']);
    const origin = 'https://stage.quillfell.example';
    const blocked = await from(origin);
    expect(blocked).toMatchObject({ status: 403, body: { ...problem('origin-blocked'), detail: expect.stringContaining(origin) } });
    expect(blocked.headers.get('access-control-allow-origin')).toBe(origin);
    await from(origin);
    const { items } = await test.owner.call(operations.clients.blockedOrigins, { params: app.dev.params });
    expect(items).toMatchObject([{ client: 'hiker-web', origin, count: 2, lastRoute: 'GET /app/v1/push-key' }]);
    await test.owner.call(operations.clients.allowOrigin, { params: { ...app.dev.params, client: 'hiker-web' }, body: { origin } });
    expect((await from(origin)).status).toBe(200);
    expect((await test.owner.call(operations.clients.blockedOrigins, { params: app.dev.params })).items).toEqual([]);
  });

  it('may be pages of a native shell, with a scheme of its own; an address that runs code is none', async () => {
    const { params } = app.dev;
    const make = (name: string, origin: string) =>
      test.owner.call(operations.clients.create, { params, body: { name, kind: 'web', origins: [origin] } }).catch((error) => error);
    const client = await make('hiker-shell', 'hiker://app');
    const from = (origin: string) => test.app('GET', '/connection', { key: client.keys[0].key, headers: { origin } });
    expect((await from('hiker://app')).body).toMatchObject({
      app: 'quillfell-hiker',
      environment: 'dev',
      client: 'hiker-shell',
      kind: 'web',
    });
    expect((await from('hiker://other')).status).toBe(403);
    for (const origin of ['javascript://app', 'https://app/path', 'hiker://app/path', 'null'])
      expect((await make('none', origin)).detail).toMatch(/a web origin/i);
  });

  it('get an answer to their preflight', async () => {
    const reply = await fetch(`${test.address}/app/v1/data/huts`, {
      method: 'OPTIONS',
      headers: { origin: 'https://any.example', 'access-control-request-method': 'POST', 'access-control-request-headers': 'orchard-key' },
    });
    expect([reply.status, reply.headers.get('access-control-allow-headers')]).toEqual([204, expect.stringContaining('Orchard-Key')]);
  });
});

describe('limits', () => {
  it('answer 429 with when to try again', async () => {
    const limited = await startTestService(inject('databaseUrl'), {
      rates: { perKey: 3, perAddress: 1000, signInsPerAddress: 1000, syncsPerKey: 3 },
    });
    try {
      const other = await makeApp(limited, 'busy');
      const answers = await Promise.all(Array.from({ length: 5 }, () => limited.app('GET', '/push-key', { key: other.dev.clientKey })));
      expect(answers.filter(({ status }) => status === 200)).toHaveLength(3);
      const refused = answers.find(({ status }) => status === 429);
      expect(Number(refused?.headers.get('retry-after'))).toBeGreaterThan(0);
    } finally {
      await limited.stop();
    }
  });
});
