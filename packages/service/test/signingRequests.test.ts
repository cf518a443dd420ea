/** Keys made here for client certificates, and replacing a credential without stranding phones. */
import { createPublicKey, X509Certificate } from 'node:crypto';
import { operations } from '@orchard/contract';
import { makeAuthority, readMapping, signRequest } from '@orchard/simulators';
import forge from 'node-forge';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
const own = operations.gateways;
const STORE_ID = 'example.quillfell.hiker';
const IOS = 'hiker-ios';
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  await test.owner.call(operations.clients.patch, { params: { ...app.dev.params, client: IOS }, body: { packageIdentifier: STORE_ID } });
});
afterAll(() => test.stop());

const add = (body: object = {}) => test.owner.call(own.addSigningRequest, { params: app.dev.params, body: { client: IOS, ...body } });
const list = async () => (await test.owner.call(own.signingRequests, { params: app.dev.params })).items;
const base64 = (pem: string) => Buffer.from(pem).toString('base64');
const signed = (pem: string) => signRequest(test.simulators.authority, pem, { packageIdentifier: STORE_ID, stage: 'live' });
const cairn = (certificate: string) => ({
  kind: 'certificate',
  name: 'cairn',
  stage: 'live',
  client: IOS,
  settings: { address: test.simulators.cairn.address, trust: test.simulators.authority.certificate },
  certificate,
  mapping: readMapping('cairn'),
});
const create = (certificate: string) => test.owner.call(own.create, { params: app.dev.params, body: cairn(certificate) as never });
const at = () => ({ params: { ...app.dev.params, gateway: 'cairn' } });

describe('a signing request', () => {
  it('is PKCS#10 of the subject, signed with a key that nobody gets', async () => {
    const made = await add({ organization: 'Quillfell Huts', country: 'NO', mail: 'huts@quillfell.example' });
    const request = forge.pki.certificationRequestFromPem(made.pem);
    expect(request.verify()).toBe(true);
    expect(request.subject.attributes.map(({ shortName, value }) => [shortName, value])).toEqual([
      ['CN', IOS],
      ['O', 'Quillfell Huts'],
      ['C', 'NO'],
      ['E', 'huts@quillfell.example'],
    ]);
    expect(JSON.stringify([made, await list()])).not.toContain('PRIVATE KEY');
    await test.owner.call(own.removeSigningRequest, { params: { ...app.dev.params, request: made.id } });
    expect(await list()).toEqual([]);
  });

  it('takes its certificate back, in PEM or DER, and is done; the gateway sends with it', async () => {
    const { pem } = await add();
    const other = await add();
    const der = new X509Certificate(signed(pem)).raw.toString('base64');
    expect(await create(der)).toMatchObject({ name: 'cairn', credential: { text: expect.stringContaining(STORE_ID) } });
    expect((await list()).map(({ id }) => id)).toEqual([other.id]);
    expect(await test.owner.call(own.check, at())).toMatchObject({ ok: true });
    // Another one replaces it, through the other open request.
    await test.owner.call(own.patch, { ...at(), body: { certificate: base64(signed(other.pem)) } });
    expect(await list()).toEqual([]);
    expect(await test.owner.call(own.check, at())).toMatchObject({ ok: true });
  });

  it('of somebody else, of another app, or the request itself is refused with what it is', async () => {
    const refused = (certificate: string) => test.owner.call(own.patch, { ...at(), body: { certificate } }).catch(({ detail }) => detail);
    const stranger = forge.pki.rsa.generateKeyPair(2048);
    const request = forge.pki.createCertificationRequest();
    request.publicKey = stranger.publicKey;
    request.setSubject([{ shortName: 'CN', value: 'stranger' }]);
    request.sign(stranger.privateKey);
    expect(await refused(base64(signed(forge.pki.certificationRequestToPem(request))))).toContain('no open signing request has its key');
    const { pem, id } = await add();
    expect(await refused(base64(pem))).toContain('a certificate request, not yet a certificate');
    const elsewhere = signRequest(test.simulators.authority, pem, { packageIdentifier: 'example.quillfell.warden', stage: 'live' });
    expect(await refused(base64(elsewhere))).toContain('The certificate is for example.quillfell.warden');
    expect(
      (await list()).map((one) => one.id),
      'a refused certificate leaves its request open',
    ).toEqual([id]);
    expect(createPublicKey(signed(pem)).asymmetricKeyType).toBe('rsa');
  });
});

describe('a new credential', () => {
  const register = async (id: string, body: object = {}) => {
    const { status } = await test.app('PUT', `/devices/${id}`, {
      key: app.dev.clientKey,
      body: {
        platform: 'ios',
        appVersion: '1.0',
        os: 'iOS 19',
        locale: 'en-GB',
        timeZone: 'Europe/London',
        permission: 'granted',
        ...body,
      },
    });
    expect(status).toBe(201);
  };

  it('says first which registered devices it would strand, and strands none unless asked to', async () => {
    for (const id of ['phone-0000-0001', 'phone-0000-0002'])
      await register(id, { pushAddress: { token: test.simulators.cairn.register(STORE_ID, 'live'), stage: 'live' } });
    const { pem } = await add();
    const same = { certificate: base64(signed(pem)) };
    expect(await test.owner.call(own.previewCredential, { ...at(), body: same })).toMatchObject({
      credential: { text: expect.stringContaining(STORE_ID) },
      devices: 2,
      stranded: 0,
      why: null,
    });
    const moved = { settings: { address: 'https://push.quillfell.example' } };
    expect(await test.owner.call(own.previewCredential, { ...at(), body: moved })).toMatchObject({
      credential: null,
      devices: 2,
      stranded: 2,
      why: expect.stringContaining('mean nothing at https://push.quillfell.example'),
    });
    await expect(test.owner.call(own.patch, { ...at(), body: moved })).rejects.toMatchObject({
      problem: 'devices-stranded',
      detail: expect.stringContaining('2 registered devices'),
    });
    expect((await test.owner.call(own.read, at())).settings.address).toBe(test.simulators.cairn.address);
    await test.owner.call(own.patch, { ...at(), body: { ...moved, strandDevices: true } });
    expect((await test.owner.call(own.read, at())).settings.address).toBe('https://push.quillfell.example');
  });

  it('of another authority than the network trusts is stored, and its check says so', async () => {
    const { pem } = await add();
    const certificate = base64(signRequest(makeAuthority(), pem, { packageIdentifier: STORE_ID, stage: 'live' }));
    const settings = { address: test.simulators.cairn.address };
    await test.owner.call(own.patch, { ...at(), body: { certificate, settings, strandDevices: true } });
    expect(await test.owner.call(own.check, at())).toMatchObject({ ok: false });
  });

  it('previews of notifications count who sees, hears and counts them', async () => {
    await register('phone-0000-0003', {
      pushAddress: { token: test.simulators.cairn.register(STORE_ID, 'live'), stage: 'live' },
      allows: { alert: true, sound: false, badge: false },
    });
    const seen = await test.owner.call(operations.notifications.previewManaged, {
      params: app.dev.params,
      body: { title: 'x', audience: { everyone: true } } as never,
    });
    expect(seen).toMatchObject({ reachable: 3, allowed: { alert: 3, sound: 2, badge: 2 } });
    const silent = await test.owner.call(operations.devices.list, {
      params: app.dev.params,
      query: { filter: 'allowsSound = FALSE' },
    });
    expect(silent.items.map(({ id, allows }) => [id, allows])).toEqual([['phone-0000-0003', { alert: true, sound: false, badge: false }]]);
  });
});
