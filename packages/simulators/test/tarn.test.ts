/** Tarn: a push network that wants a bearer token, signed by the sender or fetched with a service account. */
import { createPrivateKey, randomUUID } from 'node:crypto';
import { request } from 'node:https';
import { SignJWT } from 'jose';
import { afterAll, afterEach, beforeAll, describe, expect, inject, it } from 'vitest';
import { type Simulators, startSimulators } from '../src/index.js';

let simulators: Simulators;
const PROJECT = 'quillfell-hiker';

beforeAll(async () => {
  simulators = await startSimulators({ port: 0, authority: inject('authority') });
});
afterAll(async () => {
  await simulators.stop();
});
afterEach(() => simulators.tarn.faults.set({ mode: 'none' }));

type Answer = { status: number; body: Record<string, string> & { trouble?: { word: string } } };
const post = (path: string, body: string, headers: Record<string, string> = {}): Promise<Answer> =>
  new Promise((resolve, reject) => {
    const ca = simulators.authority.certificate;
    const sent = request(`${simulators.tarn.address}${path}`, { method: 'POST', headers, ca, agent: false }, (reply) => {
      let text = '';
      reply.on('data', (chunk) => (text += chunk));
      reply.on('end', () => resolve({ status: reply.statusCode ?? 0, body: JSON.parse(text) }));
    });
    sent.on('error', reject).end(body);
  });
const letter = (token: string, to: string, order: object = {}) =>
  post('/letters', JSON.stringify({ to, letter: { heading: 'Ridge closed' }, ...order }), { authorization: `Bearer ${token}` });
const word = ({ body }: Answer) => body.trouble?.word;

type Account = { account: string; privateKey: string; tokenAddress: string };
/** RFC 7523 section 3: an assertion that the account signs for the token's address. */
const assertion = ({ account, privateKey, tokenAddress }: Account, changes: { audience?: string; issuer?: string } = {}) =>
  new SignJWT({})
    .setProtectedHeader({ alg: 'RS256' })
    .setIssuer(changes.issuer ?? account)
    .setAudience(changes.audience ?? tokenAddress)
    .setIssuedAt()
    .setExpirationTime('5m')
    .sign(createPrivateKey(privateKey));
async function tokenOf(account: Account, changes = {}): Promise<Answer> {
  const form = new URLSearchParams({
    grant_type: 'urn:ietf:params:oauth:grant-type:jwt-bearer',
    assertion: await assertion(account, changes),
  });
  return post('/token', String(form));
}
const openAccount = (project = PROJECT) => JSON.parse(simulators.tarn.openAccount(project)) as Account;

describe('a service account', () => {
  it('gets a token for its signed assertion, and delivers with it', async () => {
    const { status, body } = await tokenOf(openAccount());
    const token = body.access_token;
    expect([status, body.token_type]).toEqual([200, 'Bearer']);
    const phone = simulators.tarn.register(PROJECT);
    const received: unknown[] = [];
    simulators.tarn.listen(phone, (one) => received.push(one));
    expect((await letter(token as string, phone)).status).toBe(200);
    expect(received).toEqual([{ heading: 'Ridge closed' }]);
  });

  it('gets none for an assertion of somebody else, or for another address (RFC 6749, 5.2)', async () => {
    const account = openAccount();
    for (const changes of [{ issuer: 'stranger@nowhere.example' }, { audience: 'https://elsewhere.example/token' }]) {
      const reply = await tokenOf(account, changes);
      expect([reply.status, reply.body.error]).toEqual([400, 'invalid_grant']);
    }
    const wrong = await post('/token', 'grant_type=password');
    expect(wrong.body).toEqual({ error: 'unsupported_grant_type' });
  });

  it('may not reach the phones of another project', async () => {
    const { access_token: token } = (await tokenOf(openAccount('quillfell-warden'))).body;
    const reply = await letter(token as string, simulators.tarn.register(PROJECT));
    expect([reply.status, word(reply)]).toEqual([403, 'other-project']);
  });

  it('needs a fresh token after those given have been ended', async () => {
    const account = openAccount();
    const { access_token: token } = (await tokenOf(account)).body;
    const phone = simulators.tarn.register(PROJECT);
    simulators.tarn.faults.set({ mode: 'expire-tokens', count: 1 });
    expect((await letter(token as string, phone)).status).toBe(401);
    const { access_token: fresh } = (await tokenOf(account)).body;
    expect((await letter(fresh as string, phone)).status).toBe(200);
  });
});

describe('a signing key', () => {
  const sign = ({ keyFile, keyId, issuer }: ReturnType<typeof simulators.tarn.openSigner>, at = Math.floor(Date.now() / 1000)) =>
    new SignJWT({}).setProtectedHeader({ alg: 'ES256', kid: keyId }).setIssuer(issuer).setIssuedAt(at).sign(createPrivateKey(keyFile));

  it('signs tokens that are good for an hour', async () => {
    const signer = simulators.tarn.openSigner(PROJECT);
    const phone = simulators.tarn.register(PROJECT);
    const now = Math.floor(Date.now() / 1000);
    expect((await letter(await sign(signer), phone)).status).toBe(200);
    expect((await letter(await sign(signer, now - 7200), phone)).status).toBe(401);
  });

  it('is refused when it is not registered, or when another team says that it signs', async () => {
    const signer = simulators.tarn.openSigner(PROJECT);
    const phone = simulators.tarn.register(PROJECT);
    expect((await letter(await sign({ ...signer, keyId: 'UNKNOWN' }), phone)).status).toBe(401);
    expect((await letter(await sign({ ...signer, issuer: 'team-other' }), phone)).status).toBe(401);
    expect((await letter('nonsense', phone)).status).toBe(401);
  });
});

describe('a letter', () => {
  const good = async () => (await tokenOf(openAccount())).body.access_token as string;

  it('that comes twice under one mark is shown once', async () => {
    const phone = simulators.tarn.register(PROJECT);
    const shown: string[] = [];
    simulators.tarn.listen(phone, (_letter, id) => shown.push(id));
    const token = await good();
    const mark = randomUUID();
    for (let n = 0; n < 2; n++) expect((await letter(token, phone, { mark })).body).toEqual({ letter: mark });
    expect(shown).toEqual([mark]);
  });

  it('waits for a phone that is away', async () => {
    const phone = simulators.tarn.register(PROJECT);
    await letter(await good(), phone);
    const shown: unknown[] = [];
    simulators.tarn.listen(phone, (one) => shown.push(one));
    expect(shown).toHaveLength(1);
  });

  it('is refused in words when it is too long, no JSON, or for a phone that is gone', async () => {
    const token = await good();
    const phone = simulators.tarn.register(PROJECT);
    expect(word(await letter(token, phone, { letter: { words: 'x'.repeat(9_000) } }))).toBe('too-long');
    expect(word(await post('/letters', '{', { authorization: `Bearer ${token}` }))).toBe('not-json');
    simulators.tarn.uninstall(phone);
    expect(word(await letter(token, phone))).toBe('no-such-phone');
  });
});

it('knows its customers again after a restart', async () => {
  const account = openAccount();
  const phone = simulators.tarn.register(PROJECT);
  const other = await startSimulators({ port: 0, authority: inject('authority') });
  other.tarn.restore(JSON.parse(JSON.stringify(simulators.tarn.store())));
  const stored = other.tarn.store();
  expect(stored.accounts.some(([name]) => name === account.account)).toBe(true);
  expect(stored.phones.some(([token]) => token === phone)).toBe(true);
  await other.stop();
});
