/** The wall of handsets and the desk of the networks, over HTTP, in front of a real backend. */
import { createPrivateKey, X509Certificate } from 'node:crypto';
import { existsSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import forge from 'node-forge';
import nodemailer from 'nodemailer';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { scratchDirectory } from '../../service/test/scratch.js';
import { type HandsetKind, MAIL_ACCOUNT, startSimulators } from '../src/index.js';

let test: TestService;
let app: TestApp;
let wall = '';
const KIND: HandsetKind = {
  name: 'Runa’s tablet',
  phone: '+12025550142',
  country: 'NO',
  platform: 'web',
  model: 'Skarn tablet',
  os: 'Debian 12',
  appVersion: '2.4.1',
  locale: 'nb-NO',
  timeZone: 'Europe/Oslo',
  person: { name: 'Runa Stone', email: 'runa@hikers.example', password: 'ridge-and-river' },
};
const post = (path: string, body?: string) => fetch(wall + path, { method: 'POST', ...(body ? { body } : {}) });
const device = () => test.simulators.handsets()[0]?.state.deviceId ?? '';
const stored = () => test.owner.call(operations.devices.readManaged, { params: { ...app.dev.params, device: device() } });

/** The state that the page of the wall is told, one after another. */
async function* states(): AsyncGenerator<{ handsets: Record<string, unknown>[] }> {
  const reply = await fetch(`${wall}/wall/events`);
  let text = '';
  for await (const chunk of reply.body as unknown as AsyncIterable<Uint8Array>) {
    text += Buffer.from(chunk).toString();
    for (let end = text.indexOf('\n\n'); end >= 0; end = text.indexOf('\n\n')) {
      yield JSON.parse(text.slice('data: '.length, end));
      text = text.slice(end + 2);
    }
  }
}

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  wall = test.simulators.address;
  await test.simulators.connect({ address: test.address, clientKey: app.dev.clientKey }, [KIND]);
});
afterAll(() => test.stop());

describe('the wall', () => {
  it('is a page with its own style and script, and has nothing else', async () => {
    for (const [path, type] of [
      ['/', 'text/html'],
      ['/wall.css', 'text/css'],
      ['/wall.js', 'text/javascript'],
    ] as const) {
      const reply = await fetch(wall + path);
      expect([reply.status, reply.headers.get('content-type')?.split(';')[0]]).toEqual([200, type]);
    }
    expect((await fetch(`${wall}/secrets`)).status).toBe(404);
    expect((await post('/wall/7/signIn')).status).toBe(404);
    expect((await post('/wall/0/explode')).status).toBe(404);
  });

  it('has a phone register at once, without a person', async () => {
    expect(await stored()).toMatchObject({ platform: 'web', permission: 'unasked', userId: null, reachable: false });
  });

  it('signs a person in, making the account the first time', async () => {
    expect((await post('/wall/0/signIn')).status).toBe(204);
    const { items } = await test.owner.call(operations.users.list, { params: app.dev.params, query: {} });
    expect(items.map(({ email }) => email)).toEqual(['runa@hikers.example']);
    expect((await stored()).userId).toBe(items[0]?.id);
  });

  it('subscribes once notifications are allowed, shows one, and tells that it came and was opened', async () => {
    await post('/wall/0/allow');
    expect(await stored()).toMatchObject({ permission: 'granted', reachable: true });
    const sent = await test.owner.call(operations.notifications.sendManaged, {
      params: app.dev.params,
      body: { title: 'Ridge closed', audience: { device: device() }, badge: 3 },
    });
    for await (const { handsets } of states()) {
      const [shown] = (handsets[0]?.received ?? []) as { title: string; key: string }[];
      if (!shown) continue;
      expect(shown.title).toBe('Ridge closed');
      expect(handsets[0]).toMatchObject({ badge: 3, signedInAs: 'Runa Stone', subscribed: true });
      expect(JSON.stringify(handsets)).not.toMatch(/privateKey|refreshToken|deviceSecret|ridge-and-river/);
      await post(`/wall/0/open/${shown.key}`);
      break;
    }
    const counts = () => test.owner.call(operations.notifications.readManaged, { params: { ...app.dev.params, id: sent.id } });
    await expect.poll(async () => (await counts()).deliveries).toMatchObject({ arrived: 1, opened: 1 });
    expect(test.simulators.handsets()[0]?.state.badge).toBe(2);
  });

  it('shows the texts of its number, and answers the latest', async () => {
    test.simulators.sms.sendFrom('+12025550142', 'Quillfell', 'Is the hut open?');
    expect((await post('/wall/0/text', 'START')).status).toBe(204);
  });

  it('forbids notifications, and the backend knows', async () => {
    await post('/wall/0/forbid');
    expect(await stored()).toMatchObject({ permission: 'denied', reachable: false });
  });

  it('goes without a word when the app is removed, and the backend learns it from the network', async () => {
    await post('/wall/0/allow');
    await post('/wall/0/uninstall');
    expect((await stored()).reachable).toBe(true);
    await test.owner.call(operations.notifications.sendManaged, {
      params: app.dev.params,
      body: { title: 'Anybody there?', audience: { device: device() } },
    });
    await expect.poll(async () => (await stored()).reach).toMatch(/Retired/);
  });

  it('signs out, and the device belongs to nobody', async () => {
    await post('/wall/0/signOut');
    expect((await stored()).userId).toBeNull();
  });

  it('says why an action failed', async () => {
    const stranger = await startSimulators({ port: 0, authority: inject('authority') });
    try {
      await stranger.connect({ address: test.address, clientKey: 'ckey-nobody' }, [KIND]);
      const refused = await fetch(`${stranger.address}/wall/0/signIn`, { method: 'POST' });
      expect([refused.status, await refused.text()]).toEqual([502, expect.stringContaining('check characters')]);
    } finally {
      await stranger.stop();
    }
  });
});

describe('the desk', () => {
  const desk = async (path: string) => Buffer.from(await (await fetch(`${wall}/desk/${path}`)).arrayBuffer());

  it('gives the authority that signed the networks’ certificates', async () => {
    const authority = new X509Certificate(await desk('authority.pem'));
    expect(authority.ca).toBe(true);
  });

  it('gives a client certificate for an app and a stage, faulty ones too', async () => {
    const read = (file: Buffer, password: string) => {
      const bags = forge.pkcs12.pkcs12FromAsn1(forge.asn1.fromDer(file.toString('binary')), password);
      const kinds = [forge.pki.oids.certBag, forge.pki.oids.pkcs8ShroudedKeyBag].map((type) => bags.getBags({ bagType: type as string }));
      return kinds.map((of) => Object.values(of).flat().length);
    };
    const order = 'cairn.p12?packageIdentifier=example.quillfell.hiker&stage=live&password=larch';
    expect(read(await desk(order), 'larch')).toEqual([1, 1]);
    expect(read(await desk(`${order}&key=no`), 'larch')).toEqual([1, 0]);
    expect(() => read(Buffer.from('no certificate'), 'larch')).toThrow();
  });

  it('opens a service account and a signing key', async () => {
    const account = JSON.parse((await desk('tarn.json?project=quillfell-hiker')).toString());
    expect(JSON.stringify(account)).toContain('quillfell-hiker');
    const signer = JSON.parse((await desk('tarn-signer.json?project=quillfell-hiker')).toString());
    const pem = Object.values(signer as Record<string, string>).find((value) => value.includes('PRIVATE KEY')) ?? '';
    expect(createPrivateKey(pem).asymmetricKeyDetails?.namedCurve).toBe('prime256v1');
  });

  it('opens an account of the SMS centre, each with its own password', async () => {
    const [one, other] = [await desk('heron.json?account=guest'), await desk('heron.json?account=guest')].map((file) =>
      JSON.parse(file.toString()),
    );
    expect(one.systemId).toBe('guest');
    expect(one.password).not.toBe(other.password);
  });

  it('reads the texts of a number and the mails of an address, and nothing of anybody else', async () => {
    const read = async (path: string) => JSON.parse((await desk(path)).toString());
    const { sms, mail } = test.simulators;
    const headers = { authorization: `Bearer ${sms.httpToken}` };
    const body = new URLSearchParams({ to: '12025550144', from: 'Quillfell', text: 'Your code: 204 118' });
    expect((await fetch(sms.httpAddress, { method: 'POST', headers, body })).status).toBe(202);
    expect(await read('texts?to=%2B12025550144')).toEqual([expect.objectContaining({ from: 'Quillfell', text: 'Your code: 204 118' })]);
    expect(await read('texts?to=%2B12025550145')).toEqual([]);
    const transport = nodemailer.createTransport({
      host: 'localhost',
      port: mail.port,
      auth: { user: MAIL_ACCOUNT.user, pass: MAIL_ACCOUNT.password },
      tls: { ca: test.simulators.authority.certificate },
    });
    await transport.sendMail({
      from: 'post@quillfell.example',
      to: 'tove@quillfell.example',
      subject: 'Join',
      text: 'Here is your address.',
    });
    expect(await read('mails?to=tove@quillfell.example')).toEqual([expect.objectContaining({ subject: 'Join' })]);
    expect(await read('mails?to=per@quillfell.example')).toEqual([]);
  });

  it('puts phones on a network, and says what it has when it is asked for something else', async () => {
    const ids = JSON.parse((await desk('phones?at=tarn&project=quillfell-hiker&count=3')).toString());
    expect(new Set(ids).size).toBe(3);
    expect((await desk('pencil')).toString()).toMatch(/^The desk has authority\.pem/);
  });
});

it('sets and shows the faults of each network', async () => {
  for (const network of ['cairn', 'tarn', 'sms', 'mail']) {
    const at = `${wall}/faults/${network}`;
    expect(await (await fetch(at, { method: 'PUT', body: '{"mode":"slow","delayMs":5}' })).json()).toMatchObject({ mode: 'slow' });
    expect(await (await fetch(at)).json()).toMatchObject({ mode: 'slow', delayMs: 5 });
    expect(await (await fetch(at, { method: 'PUT', body: '{"mode":"none"}' })).json()).toMatchObject({ mode: 'none' });
  }
});

it('handsets come back as they were after a restart', async () => {
  const kind: HandsetKind = {
    ...KIND,
    platform: 'ios',
    network: { is: 'cairn', packageIdentifier: 'example.quillfell.hiker', stage: 'trial' },
  };
  const directory = scratchDirectory('wall');
  const stateFile = join(directory, 'state.json');
  const backend = { address: test.address, clientKey: app.dev.clientKey };
  const first = await startSimulators({ port: 0, stateFile });
  await first.connect(backend, [kind]);
  await first.handsets()[0]?.signIn();
  await first.handsets()[0]?.allow();
  const before = first.handsets()[0]?.state;
  await first.stop();
  expect(existsSync(stateFile)).toBe(true);
  const again = await startSimulators({ port: 0, stateFile });
  try {
    await again.connect(backend, [kind]);
    const after = again.handsets()[0]?.state;
    expect(after).toMatchObject({
      deviceId: before?.deviceId,
      signedInAs: 'Runa Stone',
      permission: 'granted',
      registration: { ok: true },
    });
    expect(after?.refreshToken).not.toBe(before?.refreshToken);
  } finally {
    await again.stop();
    rmSync(directory, { recursive: true, force: true });
  }
});
