/** What questions bring besides their answer: other environments, the calls before people stopped, how far a long one is. */
import { randomUUID } from 'node:crypto';
import { setTimeout as sleep } from 'node:timers/promises';
import { createHttpClient, operations } from '@orchard/contract';
import { createConnection } from 'mysql2/promise';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, memberClient, PASSWORD, startTestService, type TestApp, type TestService } from './support.js';

const { insight } = operations;
let test: TestService;
let hiker: TestApp;
let warden: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  hiker = await makeApp(test, 'hiker');
  warden = await makeApp(test, 'warden');
  await use(hiker, 'phone-0001', ['hut_opened', 'dates_chosen'], { hut: 'Cairn Hut' });
  await use(hiker, 'phone-0002', ['hut_opened', 'dates_chosen', 'booking_sent']);
  await use(warden, 'tablet-0001', ['guest_arrived', 'hut_opened']);
});
afterAll(() => test.stop());

const secrets = new Map<string, string>();
/** A device registers and reports. */
async function use(app: TestApp, device: string, names: string[], properties = {}): Promise<void> {
  const body = { platform: 'ios', appVersion: '2.6.0', os: 'iOS 19', locale: 'en-GB', timeZone: 'Europe/London', permission: 'granted' };
  const { body: made } = await test.app('PUT', `/devices/${device}`, { key: app.dev.clientKey, body });
  secrets.set(device, made.secret);
  const now = Date.now();
  const events = names.map((name, i) => ({
    id: randomUUID(),
    name,
    at: new Date(now - (names.length - i) * 1_000).toISOString(),
    properties,
  }));
  const { body: answer } = await test.app('POST', '/events', {
    key: app.dev.clientKey,
    headers: as(device),
    body: { sentAt: new Date(now).toISOString(), events },
  });
  expect(answer).toEqual({ taken: names.length, refused: [] });
}
const as = (device: string) => ({ 'orchard-device': device, 'orchard-device-secret': secrets.get(device) ?? '' });
const period = { from: new Date(Date.now() - 86_400_000).toISOString(), until: new Date(Date.now() + 60_000).toISOString() };

describe('one question in several environments', () => {
  it('is answered by each on its own, in the order asked', async () => {
    const environments = ['warden/dev', 'hiker/dev'];
    const { items } = await test.owner.call(insight.across, {
      body: { question: 'events', environments, body: { ...period, event: 'hut_opened' } },
    });
    expect(items).toMatchObject([
      { app: 'warden', environment: 'dev', answer: { series: [{ total: 1 }] }, refused: null },
      { app: 'hiker', environment: 'dev', answer: { series: [{ total: 2 }] }, refused: null },
    ]);
  });

  it('takes all that the member may see when none is named, and tells where a property never came', async () => {
    const { items } = await test.owner.call(insight.across, {
      body: { question: 'visits', body: { ...period, filter: "hut = 'Cairn Hut'" } },
    });
    expect(items.map(({ app, environment }) => `${app}/${environment}`)).toEqual(['hiker/dev', 'hiker/live', 'warden/dev', 'warden/live']);
    expect(items[0]).toMatchObject({ answer: { total: { visits: 1 } } });
    expect(items[2]).toEqual({ app: 'warden', environment: 'dev', answer: null, refused: expect.stringContaining('hut') });
  });

  it('shows a member only where they have a role, and does not tell whether another exists', async () => {
    const email = 'board@quillfell.example';
    const roles = [{ ...hiker.dev.params, role: 'viewer' as const }];
    const { invitation } = await test.owner.call(operations.members.add, { body: { email, roles } });
    const token = /token=(\S+)/.exec(invitation?.address ?? '')?.[1] as string;
    const anyone = createHttpClient({ address: test.address });
    await anyone.call(operations.members.accept, { body: { token, email, name: 'Oda Board', password: PASSWORD, as: 'token' } });
    const viewer = await memberClient(test.address, { email, password: PASSWORD });
    const { items } = await viewer.call(insight.across, { body: { question: 'arrivals', body: period } });
    expect(items.map(({ app, environment }) => `${app}/${environment}`)).toEqual(['hiker/dev']);
    for (const name of ['warden/dev', 'nowhere/dev'])
      await expect(
        viewer.call(insight.across, { body: { question: 'arrivals', environments: [name], body: period } }),
      ).rejects.toMatchObject({ problem: 'not-found', detail: expect.stringContaining(name) });
  });

  it('refuses a body that the question does not have, by its field', async () => {
    await expect(
      test.owner.call(insight.across, { body: { question: 'funnel', environments: ['hiker/dev'], body: { ...period, stops: [] } } }),
    ).rejects.toMatchObject({ problem: 'invalid-input' });
  });
});

describe('why people stop', () => {
  const steps = [{ event: 'hut_opened' }, { event: 'dates_chosen' }, { event: 'booking_sent' }];
  const ask = () => test.owner.call(insight.why, { params: hiker.dev.params, body: { ...period, steps, step: 1 } });

  it('shows the last refused call of those who stopped, and not of those who went on', async () => {
    const refused = (device: string) => test.app('GET', '/data/bookings?limit=none', { key: hiker.dev.clientKey, headers: as(device) });
    const { headers } = await refused('phone-0001');
    await refused('phone-0002');
    const { stopped, calls } = await eventually(async () => {
      const why = await ask();
      return why.calls.people > 0 && why;
    });
    expect(stopped).toBe(1);
    expect(calls).toMatchObject({ people: 1, asked: 1, sampled: false });
    expect(calls.items).toMatchObject([{ people: 1, method: 'GET', target: 'bookings', request: headers.get('orchard-request') }]);
  });
});

describe('a question that takes longer than a second', () => {
  it('tells how far it is where that is accepted, and answers as always elsewhere', async () => {
    const environment = await test.service.parts.directory.environment('hiker', 'dev');
    const other = await createConnection({ uri: inject('databaseUrl') });
    const slowly = async <T>(work: () => Promise<T>): Promise<T> => {
      await other.query(`LOCK TABLES \`${environment.db.name}\`._eventDays WRITE`);
      const unlocked = sleep(1_600).then(() => other.query('UNLOCK TABLES'));
      const [answer] = await Promise.all([work(), unlocked]);
      return answer;
    };
    const asked = { params: hiker.dev.params, body: { ...period, event: 'hut_opened' } };
    const types: (string | null)[] = [];
    const watched = (headers: Record<string, string>) =>
      test.owner.open(insight.events, { ...asked, headers }).then((reply) => types.push(reply.headers.get('content-type')));
    await slowly(() => watched({ accept: 'application/json, text/event-stream' }));
    await slowly(() => watched({ accept: 'application/json' }));
    expect(types).toEqual(['text/event-stream', 'application/json; charset=utf-8']);
    const told: unknown[] = [];
    const answer = await slowly(() => test.owner.call(insight.events, { ...asked, onProgress: (progress) => told.push(progress) }));
    expect(answer.series[0]?.total).toBe(2);
    for (const progress of told) expect(progress).toEqual({ done: expect.any(Number), total: expect.any(Number) });
    await other.end();
  });
});

describe('the event plan', () => {
  it('is written as types that an app compiles against', async () => {
    const plan = (event: string, body: object) =>
      test.owner.call(operations.events.plan, { params: { ...hiker.dev.params, event }, body: body as never });
    await plan('booking_sent', {
      description: 'A booking was taken */',
      properties: { nights: { type: 'number', description: 'How many' }, huts: { type: 'list' } },
    });
    await plan('map kept', {});
    const text = await test.owner.call(operations.events.types, { params: hiker.dev.params });
    expect(text).toBe(`// The event plan of hiker/dev, by \`orchard event types\`. Make it again when the plan changes.
export type Events = {
  /** A booking was taken * / */
  booking_sent: {
    /** How many */
    nights?: number;
    huts?: string[];
  };
  "map kept": {};
};
`);
  });
});
