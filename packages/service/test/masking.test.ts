/** What must not be readable afterwards, wherever it was sent: in records, logs and answers. */
import { createHttpClient, operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { createLog } from '../src/platform/log.js';
import { type RunningService, startService } from '../src/service.js';
import { scratchDirectory } from './scratch.js';
import { callApp, makeApp, signUp, startTestService, tampered, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let two: RunningService;
let log = '';
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  const sink = { write: (line: string) => void (log += line) };
  two = await startService(
    { ...test.config, dataDirectory: scratchDirectory('logged'), secretKey: test.service.parts.secretKey },
    createLog('debug', sink),
  );
});
afterAll(async () => {
  await two.stop();
  await test.stop();
});

/** Everything the databases of this installation hold, as text. */
async function everythingStored(): Promise<string> {
  const { database } = test.service.parts;
  const tables = await database.runRows<{ s: string; t: string }>(
    'SELECT TABLE_SCHEMA AS s, TABLE_NAME AS t FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? OR TABLE_SCHEMA LIKE ?',
    [database.name, `${database.name}\\_%`],
  );
  const rows = await Promise.all(tables.map(({ s, t }) => database.runRows(`SELECT * FROM \`${s}\`.\`${t}\``)));
  return JSON.stringify(rows);
}

describe('a secret', () => {
  it('that was sent where none belongs stays in no record, log or answer', async () => {
    const runa = await signUp(test, app.dev.clientKey, 'runa');
    const { token: memberToken } = await createHttpClient({ address: test.address }).call(operations.members.signIn, {
      body: { email: 'mira@quillfell.example', password: 'orchard-in-bloom', as: 'token' },
    });
    const secrets = {
      password: 'Correct-horse-battery',
      serverKey: app.dev.serverKey,
      mistyped: tampered(app.dev.serverKey),
      accessToken: runa.token,
      refreshToken: runa.refreshToken,
      memberToken: memberToken as string,
      apiKey: 'AIza-not-ours-1234567890',
    };
    const answers: string[] = [];
    const call = async (method: string, path: string, options: Parameters<typeof callApp>[3] = {}) => {
      const { status, text } = await callApp(two.address, method, path, { key: app.dev.clientKey, ...options });
      answers.push(`${status} ${text}`);
    };
    const { password, serverKey, mistyped, accessToken, refreshToken, apiKey } = secrets;
    await call('POST', '/sessions', { body: `{"email":"runa@hikers.example","password":"${password}",}` });
    await call('POST', '/sessions', { body: `{"email":"runa@hikers.example","password":"${password}"` });
    await call('POST', '/sessions', { body: `{"password":"${password}" "email":"x"}` });
    await call('POST', '/sessions', { body: { email: 'runa@hikers.example', password, remember: true } });
    await call('POST', '/users', { body: { email: 'runa@hikers.example', password, passwort: password } });
    await call('GET', `/data/huts?key=${serverKey}&apiKey=${apiKey}&password=${password}&access_token=${accessToken}`);
    await call('GET', `/data/huts?filter=${encodeURIComponent(`name = '${serverKey}'`)}`, { key: serverKey });
    await call('GET', `/data/huts?sort=${mistyped}`, { key: mistyped });
    await call('GET', `/${refreshToken}/${accessToken}`);
    await call('GET', '/data/huts', {
      headers: { 'user-agent': serverKey, authorization: `Token ${accessToken}`, 'orchard-device': serverKey },
    });
    await call('POST', '/sessions', { body: { refreshToken: `${refreshToken}x` } });
    await call('POST', '/data/huts', { key: serverKey, body: `{"name": ${memberToken}}` });
    two.parts.log.warn({ headers: { 'orchard-key': serverKey } }, `a call with ${serverKey} and Bearer ${accessToken} failed`);
    await two.parts.recorder.flush();
    await two.parts.queryLog.flush();
    const stored = await everythingStored();
    for (const [name, secret] of Object.entries(secrets)) {
      expect(stored.includes(secret), `${name} in the database`).toBe(false);
      expect(log.includes(secret), `${name} in the log`).toBe(false);
      expect(
        answers.filter((answer) => answer.includes(secret)),
        `${name} in an answer`,
      ).toEqual([]);
    }
    expect(stored).toContain('skey-…');
    expect(log).toContain('a call with skey-… and Bearer eyJ… failed');
    expect(answers.some((answer) => answer.startsWith('400'))).toBe(true);
  });

  it('is taken for one by its form only: other words stay', async () => {
    const { maskSecrets } = await import('@orchard/core');
    const plain = 'The key …c94q of client hiker-ios was revoked. Send `Authorization: Bearer <access token>`, or a code.';
    expect(maskSecrets(plain)).toBe(plain);
    expect(maskSecrets('GET /x?keys=3&monkey=7&key=abc')).toBe('GET /x?keys=3&monkey=7&key=…');
  });
});
