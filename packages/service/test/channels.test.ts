import { randomUUID } from 'node:crypto';
import { operations, readEvents } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { startService } from '../src/service.js';
import pino from 'pino';
import { callApp, eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: Awaited<ReturnType<typeof signUp>>;
let kenji: Awaited<ReturnType<typeof signUp>>;

const publish = (channel: string, text: string, token?: string, more: object = {}) =>
  test.app('POST', `/channels/${encodeURIComponent(channel)}/messages`, {
    key: app.dev.clientKey,
    ...(token ? { token } : {}),
    body: { data: { text }, ...more },
  });

/** An open stream, with the messages and presence that came. */
async function listen(channel: string, token: string, options: { query?: string; after?: number; address?: string } = {}) {
  const stopping = new AbortController();
  const reply = await fetch(
    `${options.address ?? test.address}/app/v1/channels/${encodeURIComponent(channel)}/live${options.query ?? ''}`,
    {
      headers: {
        'orchard-key': app.dev.clientKey,
        authorization: `Bearer ${token}`,
        ...(options.after === undefined ? {} : { 'last-event-id': String(options.after) }),
      },
      signal: stopping.signal,
    },
  );
  expect(reply.status).toBe(200);
  const messages: { text: string; number: number }[] = [];
  const presence: { listening: number }[] = [];
  void (async () => {
    for await (const { event, data } of readEvents(reply)) {
      if (event === 'message')
        messages.push({ text: (data as { data: { text: string } }).data.text, number: (data as { number: number }).number });
      else presence.push(data as { listening: number });
    }
  })().catch(() => undefined);
  return { messages, presence, stop: () => stopping.abort() };
}

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
  kenji = await signUp(test, app.dev.clientKey, 'kenji');
});
afterAll(() => test.stop());

describe('a channel', () => {
  it('brings what is published to everybody who listens, at once and in order, also at another instance', async () => {
    const second = await startService(
      { ...test.config, port: 0, dataDirectory: `${test.config.dataDirectory}-2`, secretKey: test.service.parts.secretKey },
      pino({ level: 'silent' }),
    );
    const here = await listen('huts/fellgate', runa.token);
    const there = await listen('huts/fellgate', kenji.token, { address: second.address });
    await eventually(() => here.presence.at(-1)?.listening === 2 && there.presence.at(-1)?.listening === 2);
    const texts = Array.from({ length: 30 }, (_, i) => `No. ${i}`);
    for (const [i, text] of texts.entries()) {
      const address = i % 2 ? second.address : test.address;
      const sent = await callApp(address, 'POST', '/channels/huts%2Ffellgate/messages', {
        key: app.dev.clientKey,
        token: runa.token,
        body: { data: { text } },
      });
      expect(sent.status).toBe(201);
    }
    for (const { messages } of [here, there])
      expect((await eventually(() => messages.length === 30 && messages)).map(({ text }) => text)).toEqual(texts);
    there.stop();
    await eventually(() => here.presence.at(-1)?.listening === 1);
    here.stop();
    await second.stop();
  });

  it('goes on where a broken stream was, and begins with the latest on request', async () => {
    const numbers: number[] = [];
    for (const text of ['a', 'b', 'c']) numbers.push((await publish('resumed', text, runa.token)).body.number);
    const resumed = await listen('resumed', runa.token, { after: numbers[0] as number });
    const latest = await listen('resumed', runa.token, { query: '?last=1' });
    expect((await eventually(() => resumed.messages.length === 2 && resumed.messages)).map(({ text }) => text)).toEqual(['b', 'c']);
    expect((await eventually(() => latest.messages[0]))?.text).toBe('c');
    const { body } = await test.app('GET', '/channels/resumed/messages?limit=2', { key: app.dev.clientKey, token: runa.token });
    expect(body.items).toMatchObject([{ data: { text: 'b' } }, { data: { text: 'c' }, sender: { kind: 'user', id: runa.id } }]);
    resumed.stop();
    latest.stop();
  });

  it('keeps to its rules, which say who may listen and who may publish', async () => {
    const params = { ...app.dev.params, channel: 'wardens' };
    await test.owner.call(operations.channels.put, {
      params,
      body: { rules: { publish: "A_CONTAINS(me('roles'), ('warden'))", listen: 'TRUE' }, keep: 2 },
    });
    expect(await publish('wardens', 'x', runa.token)).toMatchObject({
      status: 403,
      body: { detail: expect.stringContaining('refuses this user') },
    });
    expect((await test.app('GET', '/channels/wardens/messages', { key: app.dev.clientKey })).status).toBe(200);
    expect(await publish('not-signed-in', 'x')).toMatchObject({ status: 403, body: { detail: expect.stringContaining('not signed in') } });
    const byServer = await test.app('POST', '/channels/wardens/messages', {
      key: app.dev.serverKey,
      body: { data: { text: 'from the office' } },
    });
    expect(byServer).toMatchObject({ status: 201, body: { sender: { kind: 'server', id: null } } });
    const wrong = test.owner.call(operations.channels.put, { params, body: { rules: { listen: "owner = 'x'" } } });
    await expect(wrong).rejects.toMatchObject({ problem: 'malformed-filter' });
    expect(await test.app('POST', '/channels/wardens/messages', { key: app.live.clientKey, body: { data: {} } })).toMatchObject({
      status: 404,
    });
    await test.owner.call(operations.channels.remove, { params });
    expect((await test.owner.call(operations.channels.list, { params: app.dev.params })).items.map(({ name }) => name)).not.toContain(
      'wardens',
    );
  });

  it('tells apps who sent a message without the address of a member or the name of a key, and is not made by looking', async () => {
    const params = { ...app.dev.params, channel: 'office' };
    const look = async (what: string) =>
      (await test.app('GET', `/channels/looked-at/${what}`, { key: app.dev.clientKey, token: runa.token })).body;
    expect([await look('messages'), await look('presence')]).toEqual([{ items: [] }, { listening: 0, users: [] }]);
    expect((await test.owner.call(operations.channels.list, { params: app.dev.params })).items.map(({ name }) => name)).not.toContain(
      'looked-at',
    );
    await test.owner.call(operations.channels.put, { params, body: {} });
    const listener = await listen('office', runa.token);
    await test.owner.call(operations.channels.publishManaged, { params, body: { data: { text: 'by a member' } } });
    await eventually(() => listener.messages.length === 1);
    const { text, body } = await test.app('GET', '/channels/office/messages', { key: app.dev.clientKey, token: runa.token });
    expect(body.items).toMatchObject([{ sender: { kind: 'member', id: null, name: 'the team' } }]);
    expect(text).not.toContain('mira');
    listener.stop();
  });

  it('shows the team its latest messages and who listens, and takes what a member publishes', async () => {
    const params = { ...app.dev.params, channel: 'watched' };
    await expect(test.owner.call(operations.channels.read, { params })).rejects.toMatchObject({ problem: 'not-found' });
    await publish('watched', 'first', runa.token);
    const listener = await listen('watched', runa.token);
    await test.owner.call(operations.channels.publishManaged, { params, body: { data: { text: 'second' } } });
    expect((await eventually(() => listener.messages[0]))?.text).toBe('second');
    expect(await test.owner.call(operations.channels.read, { params })).toMatchObject({
      name: 'watched',
      messages: 2,
      latest: [{ data: { text: 'first' } }, { data: { text: 'second' }, sender: { kind: 'member', name: 'Mira Quill' } }],
      presence: { listening: 1, users: [{ userId: runa.id }] },
    });
    listener.stop();
  });

  it('reaches followers of its topic who are not listening by notification', async () => {
    const device = async (token: string) => {
      const id = randomUUID();
      const body = { platform: 'ios', appVersion: '1', os: 'iOS 19', locale: 'en', timeZone: 'UTC', permission: 'denied' };
      await test.app('PUT', `/devices/${id}`, { key: app.dev.clientKey, token, body });
      await test.app('PUT', `/devices/${id}/topics/ridge`, { key: app.dev.clientKey, token });
      return id;
    };
    const [listening, away] = [await device(runa.token), await device(kenji.token)];
    const stream = await listen('ridge', runa.token, { query: `?device=${listening}` });
    await publish('ridge', 'Storm', runa.token, { notify: { title: 'Storm on the ridge' } });
    await eventually(() => stream.messages.length === 1);
    const { items } = await test.owner.call(operations.notifications.list, { params: app.dev.params, query: { limit: 1 } });
    const { items: deliveries } = await test.owner.call(operations.notifications.deliveriesManaged, {
      params: { ...app.dev.params, id: items[0]?.id as string },
      query: {},
    });
    expect([items[0]?.title, deliveries.map(({ target }) => target)]).toEqual(['Storm on the ridge', [away]]);
    stream.stop();
  });
});
