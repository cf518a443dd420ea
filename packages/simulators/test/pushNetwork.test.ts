import { createECDH, randomBytes } from 'node:crypto';
import { encryptMessage, generateSigningKey, signingKeyFrom, vapidHeader } from '@orchard/core/push';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { type Simulators, startSimulators } from '../src/index.js';

let simulators: Simulators;
const key = signingKeyFrom(generateSigningKey());
const phone = createECDH('prime256v1');
phone.generateKeys();
const auth = randomBytes(16);
const body = (text = 'hello') => encryptMessage(Buffer.from(text), { p256dh: phone.getPublicKey(), auth }, { salt: randomBytes(16) });
const authorization = (signer = key, aud = simulators.address, seconds = 3600) =>
  vapidHeader(signer, { aud, exp: Math.floor(Date.now() / 1000) + seconds });

/** RFC 8030 section 4: the push resource stands in the Link header, the subscription in Location. */
async function subscribe(vapid: string | null = key.publicKey): Promise<{ push: string; subscription: string }> {
  const reply = await fetch(`${simulators.address}/subscriptions`, { method: 'POST', body: JSON.stringify({ vapid }) });
  expect(reply.status).toBe(201);
  const push = /<([^>]+)>; rel="urn:ietf:params:push"/.exec(reply.headers.get('link') ?? '')?.[1] as string;
  return { push, subscription: reply.headers.get('location') as string };
}
function post(push: string, headers: Record<string, string | undefined> = {}, content: Uint8Array = body()): Promise<Response> {
  const all = { authorization: authorization(), ttl: '60', 'content-encoding': 'aes128gcm', ...headers };
  const present = Object.fromEntries(Object.entries(all).filter((entry): entry is [string, string] => entry[1] !== undefined));
  return fetch(push, { method: 'POST', headers: present, body: new Uint8Array(content) });
}
const idOf = (push: string) => push.split('/').at(-1) as string;

beforeAll(async () => {
  simulators = await startSimulators({ port: 0, authority: inject('authority') });
});
afterAll(() => simulators.stop());
beforeEach(() => simulators.network.setFault({ mode: 'none' }));

describe('the push network', () => {
  it('takes a message with 201, a Location and the TTL it keeps, and hands it to the user agent', async () => {
    const { push } = await subscribe();
    const arrived: Buffer[] = [];
    simulators.network.listen(idOf(push), (message) => arrived.push(message));
    const sent = body('over the col');
    const reply = await post(push, {}, sent);
    expect([reply.status, reply.headers.get('ttl'), reply.headers.get('location')]).toEqual([
      201,
      '60',
      expect.stringContaining('/messages/'),
    ]);
    expect(arrived.map((message) => message.equals(sent))).toEqual([true]);
  });

  it('keeps a message for a user agent that is away, as long as its TTL says', async () => {
    const { push } = await subscribe();
    await post(push, { ttl: '60' });
    await post(push, { ttl: '0' });
    const arrived: Buffer[] = [];
    simulators.network.listen(idOf(push), (message) => arrived.push(message));
    expect(arrived).toHaveLength(1);
  });

  it('replaces a waiting message of the same topic', async () => {
    const { push } = await subscribe();
    for (const topic of ['wind', 'wind', 'snow']) await post(push, { topic });
    const arrived: Buffer[] = [];
    simulators.network.listen(idOf(push), (message) => arrived.push(message));
    expect(arrived).toHaveLength(2);
  });

  it('answers 404 for a subscription it never had, 410 for one that is over', async () => {
    expect((await post(`${simulators.address}/push/never`)).status).toBe(404);
    const { push, subscription } = await subscribe();
    expect((await fetch(subscription, { method: 'DELETE' })).status).toBe(204);
    expect((await post(push)).status).toBe(410);
  });

  it.each([
    ['no TTL', { ttl: undefined }, 400],
    ['a TTL that is no number', { ttl: 'soon' }, 400],
    ['an unknown urgency', { urgency: 'panic' }, 400],
    ['a topic that is too long', { topic: 'x'.repeat(33) }, 400],
    ['no content coding', { 'content-encoding': undefined }, 400],
    ['no identification', { authorization: undefined }, 401],
    ['another scheme', { authorization: 'Bearer x' }, 401],
  ])('refuses a message with %s', async (_name, headers, status) =>
    expect((await post((await subscribe()).push, headers)).status).toBe(status),
  );

  it('takes 4096 bytes and no more', async () => {
    const { push } = await subscribe();
    expect((await post(push, {}, body('x'.repeat(3993)))).status).toBe(201);
    expect((await post(push, {}, Buffer.alloc(4097))).status).toBe(413);
  });

  it('refuses another application server than the subscription was made for, and tokens that are over or for another network', async () => {
    const { push } = await subscribe();
    expect((await post(push, { authorization: authorization(signingKeyFrom(generateSigningKey())) })).status).toBe(403);
    expect((await post(push, { authorization: authorization(key, simulators.address, -5) })).status).toBe(401);
    expect((await post(push, { authorization: authorization(key, 'https://other.example') })).status).toBe(401);
    expect((await post((await subscribe(null)).push, { authorization: undefined })).status).toBe(201);
  });

  it('misbehaves on request, for as many messages as it is told', async () => {
    const { push } = await subscribe();
    const set = (fault: object) => fetch(`${simulators.address}/faults`, { method: 'PUT', body: JSON.stringify(fault) });
    await set({ mode: 'throttle', retryAfterS: 7, count: 2 });
    const answers = [await post(push), await post(push), await post(push)];
    expect(answers.map(({ status, headers }) => `${status} ${headers.get('retry-after')}`)).toEqual(['429 7', '429 7', '201 null']);
    await set({ mode: 'refuse', status: 503 });
    expect((await post(push)).status).toBe(503);
    await set({ mode: 'drop', count: 1 });
    await expect(post(push)).rejects.toThrow();
    expect((await post(push)).status).toBe(201);
  });
});
