/** A stream ends soon after the rights of whoever opened it, with a last event that says why. */
import { createHttpClient, type LiveEvent, operations, readEvents } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, OWNER, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  await test.app('PUT', '/data/huts/fellgate', { key: app.dev.serverKey, body: { name: 'Fellgate' } });
  await test.owner.call(operations.collections.patch, {
    params: { ...app.dev.params, collection: 'huts' },
    body: { rules: { read: 'TRUE' } },
  });
});
afterAll(() => test.stop());

type Open = { events: LiveEvent[]; ended: Promise<unknown> };
async function open(path: string, headers: Record<string, string>): Promise<Open> {
  const reply = await fetch(test.address + path, { headers });
  expect(reply.status).toBe(200);
  const events: LiveEvent[] = [];
  const ended = (async () => {
    for await (const event of readEvents(reply)) events.push(event);
  })();
  await eventually(() => events.length > 0);
  return { events, ended };
}
/** All three kinds of streams of an app. */
const appStreams = async (headers: Record<string, string>) =>
  Promise.all(['/app/v1/live/huts', '/app/v1/live/huts/fellgate', '/app/v1/channels/ridge/live'].map((path) => open(path, headers)));
async function lastWords(streams: Open[]): Promise<string[]> {
  await Promise.all(streams.map(({ ended }) => ended));
  return [
    ...new Set(
      streams.map(({ events }) => events.at(-1) as LiveEvent).map(({ event, data }) => `${event} ${(data as { type: string }).type}`),
    ),
  ];
}
const asUser = ({ token }: { token: string }, key = app.dev.clientKey) => ({ 'orchard-key': key, authorization: `Bearer ${token}` });

describe('streams of an app end', () => {
  it('when their key is revoked', async () => {
    const params = { ...app.dev.params, client: 'hiker-ios' };
    const made = await test.owner.call(operations.clients.createKey, { params, body: { name: 'second' } });
    const runa = await signUp(test, app.dev.clientKey, 'runa');
    const streams = await appStreams(asUser(runa, made.key as string));
    await test.owner.call(operations.clients.revokeKey, { params: { ...params, key: made.id } });
    expect(await lastWords(streams)).toEqual(['ended /docs/problems/key-revoked']);
  });

  it.each([
    ['signs out', (user: { token: string }) => test.app('DELETE', '/sessions/current', { key: app.dev.clientKey, token: user.token })],
    ['is disabled', (user: { id: string }) => patchUser(user.id, { disabled: true })],
    ['gets other roles', (user: { id: string }) => patchUser(user.id, { roles: ['warden'] })],
    ['is deleted', (user: { id: string }) => test.owner.call(operations.users.remove, { params: { ...app.dev.params, user: user.id } })],
  ] as const)('when their user %s', async (what, end) => {
    const user = await signUp(test, app.dev.clientKey, `user-${what.replaceAll(' ', '-')}`);
    const other = await signUp(test, app.dev.clientKey, `other-${what.replaceAll(' ', '-')}`);
    const [streams, others] = [await appStreams(asUser(user)), await appStreams(asUser(other))];
    await end(user);
    expect(await lastWords(streams)).toEqual(['ended /docs/problems/session-ended']);
    expect(others.flatMap(({ events }) => events.map(({ event }) => event))).not.toContain('ended');
  });
});
const patchUser = (user: string, body: { disabled?: boolean; roles?: string[] }) =>
  test.owner.call(operations.users.patch, { params: { ...app.dev.params, user }, body });

describe('streams of the console end', () => {
  const PAGE = '/manage/v1/apps/quillfell-hiker/environments/dev/changes';
  const signIn = async (email: string) =>
    (
      await createHttpClient({ address: test.address }).call(operations.members.signIn, {
        body: { email, password: OWNER.password, as: 'token' },
      })
    ).token as string;

  it('when the member signs out, and not those of others', async () => {
    const token = await signIn(OWNER.email);
    const stays = await open(PAGE, { authorization: `Bearer ${await signIn(OWNER.email)}` });
    const streams = [await open(PAGE, { authorization: `Bearer ${token}` })];
    await createHttpClient({ address: test.address, headers: () => ({ authorization: `Bearer ${token}` }) }).call(
      operations.members.signOut,
      {},
    );
    expect(await lastWords(streams)).toEqual(['ended /docs/problems/member-sign-in-needed']);
    expect(stays.events.map(({ event }) => event)).not.toContain('ended');
  });

  it('when the member has no role there any more, or is gone', async () => {
    const email = 'ines@quillfell.example';
    const { id } = await test.owner.call(operations.members.add, {
      body: { email, name: 'Ines', password: OWNER.password, roles: [{ app: 'quillfell-hiker', role: 'viewer' }] },
    });
    const token = await signIn(email);
    const first = await open(PAGE, { authorization: `Bearer ${token}` });
    await test.service.parts.database.run('DELETE FROM memberRoles WHERE memberId = ?', [id]);
    expect(await lastWords([first])).toEqual(['ended /docs/problems/role-insufficient']);
    expect((await fetch(test.address + PAGE, { headers: { authorization: `Bearer ${token}` } })).status).toBe(403);
  });
});
