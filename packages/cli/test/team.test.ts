/** The team from the terminal: second factors, tokens for scripts, the audit, ways to be reached. */
import { readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { SMS_ACCOUNT } from '@orchard/simulators';
import { Secret, TOTP } from 'otpauth';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, OWNER, startTestService, type TestService } from '../../service/test/support.js';
import { openTerminal, signIn } from './terminal.js';

let test: TestService;
const terminal = openTerminal();
const { home, orchard, json, typed } = terminal;
const STEP_MS = 30_000;
const codeOf = (secret: string, offsetMs = 0) =>
  new TOTP({ secret: Secret.fromBase32(secret), digits: 6, period: 30 }).generate({ timestamp: Date.now() + offsetMs });
const age = () => test.service.parts.database.run('UPDATE memberSessions SET confirmedAt = UTC_TIMESTAMP(3) - INTERVAL 1 HOUR', []);

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  await makeApp(test, 'quillfell-hiker');
  await signIn(terminal, test.address, 'quillfell-hiker/dev');
});
afterAll(async () => {
  await test.stop();
  rmSync(home, { recursive: true, force: true });
});

describe('a token', () => {
  it('is created for scripts, which take it from their environment', async () => {
    const made = await json('token', 'add', 'nightly export', '--roles', 'quillfell-hiker/dev=developer', '--days', '30');
    expect(made).toMatchObject({ name: 'nightly export', token: expect.stringMatching(/^atok-/) });
    const asScript = { XDG_CONFIG_HOME: join(home, 'nothing'), ORCHARD_TOKEN: made.token, ORCHARD_ADDRESS: test.address };
    const place = ['--app', 'quillfell-hiker', '--env', 'dev'];
    expect(await orchard(['topic', 'list', ...place], '', asScript)).toMatchObject({ code: 0 });
    expect(await orchard(['env', 'mode', 'closed', ...place], '', asScript)).toMatchObject({
      code: 4,
      err: expect.stringContaining('This needs the role maintainer; yours is developer'),
    });
    expect(await orchard(['topic', 'list', ...place], '', { ...asScript, ORCHARD_ADDRESS: '' })).toMatchObject({
      code: 2,
      err: expect.stringContaining('set ORCHARD_ADDRESS too'),
    });
    expect((await orchard(['token', 'list'])).out).toMatch(/nightly export +quillfell-hiker\/dev developer +valid/);
    expect(await orchard(['token', 'revoke', made.id, '--yes'])).toMatchObject({ code: 0 });
    expect(await orchard(['topic', 'list', ...place], '', asScript)).toMatchObject({
      code: 3,
      err: expect.stringContaining('expired or was revoked'),
    });
  });

  it.each([
    [['token', 'add', 'x'], '--roles'],
    [['token', 'add', 'x', '--roles', 'quillfell-hiker'], 'app=role or app/environment=role'],
    [['token', 'add', 'x', '--roles', 'quillfell-hiker=none'], 'no role to take away'],
    [['token', 'add', 'x', '--roles', 'quillfell-hiker=viewer', '--days', 'ten'], 'days'],
  ])('is not created from %j', async (args, words) => {
    expect(await orchard(args)).toMatchObject({ code: 2, err: expect.stringContaining(words) });
  });
});

describe('the audit', () => {
  it('is listed with a filter, and exported', async () => {
    await orchard(['topic', 'add', 'ridge-weather', '--title', 'Ridge weather']);
    const { items } = await json('audit', 'list', '--filter', "kind = 'topic'");
    expect(items[0]).toMatchObject({ action: 'topics.put', subject: 'ridge-weather', actor: { name: OWNER.name } });
    expect((await orchard(['audit', 'list', '--app', 'quillfell-hiker', '--env', 'live'])).out).not.toContain('ridge-weather');
    const file = join(home, 'audit.csv');
    expect(await orchard(['audit', 'export', '--format', 'csv', '--file', file, '--filter', "kind = 'topic'"])).toMatchObject({ code: 0 });
    expect(readFileSync(file, 'utf8')).toContain('ridge-weather');
    expect((await orchard(['audit', 'export', '--filter', "kind = 'topic'"])).out.trim().split('\n')).toHaveLength(1);
    expect(await orchard(['audit', 'list', '--filter', 'who = 1'])).toMatchObject({ code: 4 });
  });

  it('is verified, also against the heads in a log, and fails with exit code 1 when it is not whole', async () => {
    expect(await orchard(['audit', 'verify'])).toMatchObject({ code: 0, err: expect.stringContaining('Every chain is whole.') });
    const { items } = await json('audit', 'verify');
    const dev = items.find(({ environment }: { environment: string }) => environment === 'dev');
    const line = (mac: string) => JSON.stringify({ level: 30, auditHead: { database: dev.database, number: dev.number, mac } });
    const log = join(home, 'service.log');
    writeFileSync(log, `{"msg":"the service is ready"}\n${line(dev.mac)}\nnot JSON "auditHead"\n`);
    expect(await orchard(['audit', 'verify', '--log', log])).toMatchObject({
      code: 0,
      err: expect.stringContaining('1 head of the log was compared.'),
    });
    writeFileSync(log, line('A'.repeat(43)));
    const broken = await orchard(['audit', 'verify', '--log', log]);
    expect(broken).toMatchObject({ code: 1, err: expect.stringContaining('The audit is not whole.') });
    expect(broken.out).toContain('the chain was rewritten');
    writeFileSync(log, 'nothing here');
    expect(await orchard(['audit', 'verify', '--log', log])).toMatchObject({
      code: 2,
      err: expect.stringContaining('no head of an audit chain'),
    });
    expect(await orchard(['audit', 'verify', '--log', join(home, 'no.log')])).toMatchObject({ code: 2 });
  });
});

describe('a second factor', () => {
  let secret = '';
  let codes: string[] = [];

  it('is added at a terminal, with recovery codes', async () => {
    const { out, code } = await typed(
      ['second-factor', 'add'],
      [
        [
          /Code it shows now: /,
          (shown) => {
            secret = /secret +([A-Z2-7]{32})/.exec(shown)?.[1] as string;
            return codeOf(secret, -STEP_MS);
          },
        ],
      ],
    );
    expect(code, out).toBe(0);
    codes = out.match(/[0-9a-z]{4}-[0-9a-z]{4}-[0-9a-z]{4}/g) as string[];
    expect(codes).toHaveLength(10);
    expect(await orchard(['second-factor', 'list'])).toMatchObject({
      out: expect.stringContaining('authenticator'),
      err: expect.stringContaining('10 recovery codes are left.'),
    });
  });

  it('is asked for at the sign-in: by an option, or at the terminal', async () => {
    const args = ['sign-in', test.address, '--email', OWNER.email];
    expect(await orchard([...args, '--password-stdin'], `${OWNER.password}\n`)).toMatchObject({
      code: 2,
      err: expect.stringContaining('Give --code'),
    });
    expect(await orchard([...args, '--password-stdin', '--code', '123'], `${OWNER.password}\n`)).toMatchObject({
      code: 3,
      err: expect.stringContaining('neither a code of six digits nor an unused recovery code'),
    });
    const signedIn = await typed(args, [
      [/Password: /, OWNER.password],
      [/Code: /, () => codeOf(secret)],
    ]);
    expect(signedIn.out).toContain(`Signed in to ${test.address} as ${OWNER.name}.`);
    expect(signedIn).toMatchObject({ code: 0 });
    expect(await orchard([...args, '--password-stdin', '--code', codes[0] as string], `${OWNER.password}\n`)).toMatchObject({ code: 0 });
    await orchard(['use', 'quillfell-hiker/dev']);
  });

  it('is asked for again before a sensitive change; a script is told what to do', async () => {
    await age();
    const add = ['key', 'add', 'office', '--name', 'nightly', '--scopes', 'records:read'];
    expect(await orchard(add)).toMatchObject({ code: 4, err: expect.stringMatching(/Confirm that it is you.* sign in again first/) });
    const asked = await typed(add, [[/Confirm that it is you\. Code: /, codes[1] as string]]);
    expect(asked.out).toMatch(/skey-/);
    expect(asked.code).toBe(0);
  });

  it('is removed, and new recovery codes are made', async () => {
    expect((await json('second-factor', 'recovery-codes')).recoveryCodes).toHaveLength(10);
    const [factor] = (await json('second-factor', 'list')).items;
    expect(await orchard(['second-factor', 'remove', factor.id, '--yes'])).toMatchObject({ code: 0 });
    expect((await orchard(['second-factor', 'list'])).err).toContain('You have no second factor.');
    expect(await json('app', 'set', 'quillfell-hiker', '--second-factor')).toMatchObject({ secondFactor: true });
    expect((await orchard(['second-factor', 'list'])).err).toContain('quillfell-hiker need');
    expect(await json('app', 'set', 'quillfell-hiker', '--no-second-factor')).toMatchObject({ secondFactor: false });
  });
});

describe('a way to be reached', () => {
  const heron = () => ({
    kind: 'smpp',
    name: 'heron',
    stage: 'live',
    settings: { host: '127.0.0.1', port: test.simulators.sms.port, systemId: SMS_ACCOUNT.systemId, sender: 'Orchard' },
    password: SMS_ACCOUNT.password,
  });

  it('goes through a gateway of the installation, which is added and checked', async () => {
    expect((await orchard(['way', 'list'])).err).toContain('The installation has no gateway for SMS.');
    expect(await orchard(['installation-gateway', 'add', JSON.stringify(heron())])).toMatchObject({ code: 0 });
    expect(await orchard(['installation-gateway', 'check', 'heron'])).toMatchObject({ code: 0, out: expect.stringContaining('Bound as') });
    expect((await orchard(['installation-gateway', 'list'])).out).toMatch(/heron +smpp +live +yes/);
    const wrong = { ...heron(), name: 'wrong', password: 'nope' };
    await orchard(['installation-gateway', 'add', JSON.stringify(wrong)]);
    expect(await orchard(['installation-gateway', 'check', 'wrong'])).toMatchObject({ code: 1 });
    expect(await orchard(['installation-gateway', 'remove', 'wrong', '--yes'])).toMatchObject({ code: 0 });
  });

  it('is added, verified, tested, given quiet hours, and removed', async () => {
    const { id } = await json('way', 'add', '+12025550147', '--time-zone', 'Europe/Oslo');
    const code = /\b\d{6}\b/.exec(test.simulators.sms.textsOf('+12025550147').at(-1)?.text ?? '')?.[0] as string;
    expect(await orchard(['way', 'verify', id, code])).toMatchObject({
      code: 0,
      err: expect.stringContaining('+12025550147 is verified.'),
    });
    expect(await json('way', 'test', id)).toMatchObject({ state: 'sent' });
    expect((await orchard(['way', 'set', id, '--quiet-hours', '22:00-07:00', '--no-urgent-anyway'])).out).toContain(
      '22:00 to 07:00 Europe/Oslo',
    );
    expect(await orchard(['way', 'set', id, '--quiet-hours', 'at night'])).toMatchObject({ code: 2 });
    expect(await orchard(['way', 'set', id])).toMatchObject({ code: 2, err: expect.stringContaining('nothing to change') });
    expect((await orchard(['way', 'messages'])).out).toContain('A test from Vivid Orchard');
    expect(await orchard(['way', 'remove', id, '--yes'])).toMatchObject({ code: 0 });
    expect((await json('way', 'list')).items).toEqual([]);
  });
});
