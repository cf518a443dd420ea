/** Alerts and incidents: from calls that fail to a phone that tells, an answer, and all clear. */
import { createHash, createHmac } from 'node:crypto';
import { createServer, type IncomingHttpHeaders, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { createHttpClient, type HttpClient, operations } from '@orchard/contract';
import { SMS_ACCOUNT } from '@orchard/simulators';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, memberClient, startTestService, tampered, type TestApp, type TestService } from './support.js';

const NUMBER = '+12025550147';
const PASSWORD = 'larch-and-lantern';
let test: TestService;
let app: TestApp;
let ilse: { id: string; client: HttpClient };

/** A target of webhooks, and what it got. */
type Got = { headers: IncomingHttpHeaders; body: string };
let target: { server: Server; url: string; got: Got[]; status: number };

beforeAll(async () => {
  target = await listen();
  const origins = [new URL(target.url).origin];
  test = await startTestService(inject('databaseUrl'), (simulators) => ({
    evaluateMs: 1_000,
    pushOrigins: [simulators.address, `smpp://127.0.0.1:${simulators.sms.port}`, ...origins],
  }));
  app = await makeApp(test, 'quillfell-hiker');
  await test.owner.call(operations.memberWays.addGateway, {
    body: {
      kind: 'smpp',
      name: 'heron',
      stage: 'live',
      settings: { host: '127.0.0.1', port: test.simulators.sms.port, systemId: SMS_ACCOUNT.systemId, sender: 'Quillfell' },
      password: SMS_ACCOUNT.password,
    },
  });
  ilse = await join('ilse');
  // The connection to the centre is kept up in the background.
  const way = await eventually(() =>
    ilse.client.call(operations.memberWays.add, { body: { kind: 'sms', number: NUMBER } }).catch(() => null),
  );
  const code = /\d{6}/.exec(texts().at(-1) ?? '')?.[0] as string;
  await ilse.client.call(operations.memberWays.verify, { params: { way: way.id }, body: { code } });
});
afterAll(async () => {
  await test.stop();
  target.server.close();
});

const texts = () => test.simulators.sms.textsOf(NUMBER).map(({ text }) => text);
async function join(name: string) {
  const email = `${name}@quillfell.example`;
  const roles = [{ app: app.name, role: 'maintainer' as const }];
  const { id } = await test.owner.call(operations.members.add, { body: { email, name, password: PASSWORD, roles } });
  return { id, client: await memberClient(test.address, { email, password: PASSWORD }) };
}
async function listen(): Promise<typeof target> {
  const made = { url: '', got: [] as Got[], status: 200 } as unknown as typeof target;
  made.server = createServer((request, response) => {
    const chunks: Buffer[] = [];
    request.on('data', (chunk) => chunks.push(chunk));
    request.on('end', () => {
      made.got.push({ headers: request.headers, body: Buffer.concat(chunks).toString() });
      response.writeHead(made.status, made.status === 302 ? { location: 'http://169.254.10.10/' } : {}).end();
    });
  });
  await new Promise<void>((resolve) => made.server.listen(0, '127.0.0.1', resolve));
  made.url = `http://127.0.0.1:${(made.server.address() as AddressInfo).port}/hook`;
  return made;
}

const refuse = async (calls: number) => {
  for (let i = 0; i < calls; i++) await test.app('GET', '/data/huts?filter=nowhere%20%3D%201', { key: app.live.serverKey });
};
const incidents = async () => (await test.owner.call(operations.incidents.list, { params: app.live.params, query: {} })).items;
const inFull = async (id: string, client = test.owner) =>
  client.call(operations.incidents.read, { params: { ...app.live.params, incident: id } });
const setObjective = (failing: number) =>
  test.owner.call(operations.objectives.replace, {
    params: app.live.params,
    body: {
      items: [
        {
          name: 'refused',
          subject: { of: 'calls' },
          measure: { of: 'refused' },
          windowMs: 60_000,
          stressed: failing / 2,
          failing,
          leastCalls: 5,
        },
      ],
    },
  });

describe('who is told', () => {
  it('is at first the maintainers, then the owners, where the app is live', async () => {
    const { rules } = await test.owner.call(operations.alerts.read, { params: app.live.params });
    expect(rules).toMatchObject([{ on: 'condition', from: 'failing', steps: [[{ role: 'maintainer' }], [{ role: 'owner' }]] }]);
    expect((await test.owner.call(operations.alerts.read, { params: app.dev.params })).rules).toEqual([]);
  });

  it('cannot be somebody without a role, or a rota that is not there', async () => {
    const body = {
      rules: [{ name: 'one', on: 'condition' as const, steps: [[{ to: 'on-call' as const, rota: 'duty' }]] }],
      rotas: [],
    };
    await expect(ilse.client.call(operations.alerts.replace, { params: app.live.params, body })).rejects.toMatchObject({
      problem: 'invalid-input',
      detail: expect.stringContaining('no rota `duty`'),
    });
  });

  it('is whoever is on call', async () => {
    const { secret } = await ilse.client.call(operations.alerts.addWebhook, {
      params: app.live.params,
      body: { name: 'ops', url: target.url },
    });
    expect(secret).toMatch(/^[\w-]{43}$/);
    secrets.ops = secret;
    const set = await ilse.client.call(operations.alerts.replace, {
      params: app.live.params,
      body: {
        rules: [
          {
            name: 'failing',
            on: 'condition',
            steps: [
              [
                { to: 'on-call', rota: 'duty' },
                { to: 'webhook', webhook: 'ops' },
              ],
            ],
          },
        ],
        rotas: [{ name: 'duty', timeZone: 'Europe/Oslo', members: [ilse.id], startsOn: '2026-01-05', handOver: '09:00', days: 7 }],
      },
    });
    expect(set.onCall).toMatchObject([{ rota: 'duty', member: { id: ilse.id, name: 'ilse' }, replaces: null }]);
    expect(JSON.stringify(set)).not.toContain(secret);
  });
});
const secrets: Record<string, string> = {};

describe('an environment that fails', () => {
  it('opens one incident, tells the phone on call and the webhook once, and takes the answer', async () => {
    await setObjective(0.5);
    await refuse(20);
    const [incident] = await eventually(async () => {
      const found = await incidents();
      return found[0] && texts().some((text) => text.includes('is failing')) && target.got.length > 0 && found;
    });
    expect(incident).toMatchObject({ subject: 'condition', condition: 'failing', closedAt: null, acknowledgedAt: null });
    const alert = texts().filter((text) => text.includes('is failing'));
    expect(alert).toHaveLength(1);
    expect(alert[0]).toContain('share refused, all calls: 100 %');
    expect(alert[0]).toMatch(/\/acknowledge\?token=\S+/);
    expect(target.got).toHaveLength(1);
    // Later evaluations tell nobody again.
    await refuse(10);
    await new Promise((resolve) => setTimeout(resolve, 3_000));
    expect(texts().filter((text) => text.includes('is failing'))).toHaveLength(1);

    test.simulators.sms.sendFrom(NUMBER, 'Quillfell', 'Ok, on it');
    const acknowledged = await eventually(async () => {
      const [one] = await incidents();
      return one?.acknowledgedAt ? one : null;
    });
    expect(acknowledged).toMatchObject({ acknowledgedBy: { id: ilse.id, name: 'ilse' } });
    expect((await incidents()).length).toBe(1);
  });

  it('signs what it tells a webhook', () => {
    const { headers, body } = target.got[0] as Got;
    expect(JSON.parse(body)).toMatchObject({
      type: 'incident.opened',
      app: app.name,
      environment: 'live',
      incident: { condition: 'failing' },
    });
    expect(headers['content-digest']).toBe(`sha-256=:${createHash('sha256').update(body).digest('base64')}:`);
    const [, parameters = ''] = /^sig1=(.*)$/.exec(String(headers['signature-input'])) ?? [];
    const base = [
      '"@method": POST',
      `"@target-uri": ${target.url}`,
      '"content-type": application/json',
      `"content-digest": ${headers['content-digest']}`,
      `"@signature-params": ${parameters}`,
    ].join('\n');
    expect(headers.signature).toBe(
      `sig1=:${createHmac('sha256', secrets.ops as string)
        .update(base)
        .digest('base64')}:`,
    );
  });

  it('is acknowledged by the address in the alert as well, and by nobody with another', async () => {
    const token = /token=(\S+)/.exec(texts().find((text) => text.includes('is failing')) ?? '')?.[1] as string;
    const anyone = createHttpClient({ address: test.address });
    expect(await anyone.call(operations.incidents.acknowledgeByLink, { body: { token } })).toMatchObject({ environment: 'live' });
    const other = anyone.call(operations.incidents.acknowledgeByLink, { body: { token: tampered(token) } });
    await expect(other).rejects.toMatchObject({ problem: 'link-refused' });
  });

  it('has a timeline with notes, the worst routes, and what was changed before', async () => {
    const id = (await incidents())[0]?.id as string;
    await ilse.client.call(operations.incidents.note, {
      params: { ...app.live.params, incident: id },
      body: { text: 'A client asks for a field that is gone.' },
    });
    const found = await inFull(id);
    expect(found.happenings.map(({ kind }) => kind)).toEqual(['opened', 'alerted', 'acknowledged', 'note']);
    expect(found.happenings[1]?.text).toBe('ilse, webhook ops');
    expect(found.routes[0]).toMatchObject({ method: 'GET', route: '/app/v1/data/{collection}' });
    expect(found.changes?.map(({ subject }) => subject)).toContain('objectives');
    expect(found.changes?.at(-1)?.actor).toMatchObject({ name: 'Mira Quill' });
  });

  it('closes the incident when it is well again, and tells those it had told', async () => {
    await setObjective(0.9999);
    await test.owner.call(operations.objectives.replace, { params: app.live.params, body: { items: [] } });
    const closed = await eventually(async () => {
      const [one] = await incidents();
      return one?.closedAt && texts().some((text) => text.includes('well again')) ? one : null;
    });
    expect((await inFull(closed.id)).happenings.at(-1)).toMatchObject({ kind: 'closed' });
    expect(JSON.parse(target.got.at(-1)?.body ?? '')).toMatchObject({ type: 'incident.closed' });
  });
});

describe('a webhook', () => {
  const tryOut = async (name: string, url: string) => {
    const { params } = app.dev;
    await test.owner.call(operations.alerts.addWebhook, { params, body: { name, url } });
    await test.owner.call(operations.alerts.replace, {
      params,
      body: { rules: [{ name, on: 'job', steps: [[{ to: 'webhook', webhook: name }]] }] },
    });
    const { items } = await test.owner.call(operations.alerts.test, { params: { ...params, rule: name } });
    return items[0];
  };

  it('that redirects is not followed, and one that refuses or is private says so', async () => {
    target.status = 302;
    expect(await tryOut('moved', target.url)).toMatchObject({ ok: false, detail: expect.stringContaining('Redirects are not followed') });
    target.status = 503;
    expect(await tryOut('refusing', target.url)).toMatchObject({ ok: false, detail: 'It answered 503.' });
    expect(await tryOut('private', 'http://localhost:1/hook')).toMatchObject({
      ok: false,
      detail: expect.stringContaining('cannot be reached'),
    });
    const { webhooks } = await test.owner.call(operations.alerts.read, { params: app.dev.params });
    expect(webhooks.map(({ lastStatus }) => lastStatus)).toEqual([302, 503, null]);
  });
});

it('during planned work nobody is told, until it is over', async () => {
  const { params } = app.live;
  const now = test.service.parts.now();
  const time = (ms: number) => new Date(now + ms).toISOString();
  const wrong = test.owner.call(operations.incidents.plan, { params, body: { from: time(0), until: time(-1), why: 'A new database' } });
  await expect(wrong).rejects.toMatchObject({ problem: 'invalid-input' });
  const work = await test.owner.call(operations.incidents.plan, {
    params,
    body: { from: time(0), until: time(3_600_000), why: 'A new database' },
  });
  const before = texts().length;
  await setObjective(0.5);
  await refuse(30);
  await eventually(async () => (await incidents())[0]?.closedAt === null);
  await new Promise((resolve) => setTimeout(resolve, 1_500));
  expect(texts()).toHaveLength(before);
  expect((await test.owner.call(operations.incidents.planned, { params })).items).toMatchObject([{ why: 'A new database' }]);
  await test.owner.call(operations.incidents.unplan, { params: { ...params, work: work.id } });
  expect((await test.owner.call(operations.incidents.planned, { params })).items).toEqual([]);
});
