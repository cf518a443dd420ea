/** How the command behaves among others: pipes, prompts, profiles, codes, help. */
import { spawn } from 'node:child_process';
import { existsSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, OWNER, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { COMMAND, openTerminal, signIn } from './terminal.js';

let test: TestService;
let app: TestApp;
const terminal = openTerminal();
const { home, orchard, json } = terminal;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  await signIn(terminal, test.address, 'quillfell-hiker/dev');
  const actions = Array.from({ length: 1_000 }, (_, i) => ({ action: 'create', record: { name: `Hut ${i} ${'x'.repeat(300)}` } }));
  await test.app('POST', '/data/huts/batch', { key: app.dev.serverKey, body: { actions } });
});
afterAll(async () => {
  await test.stop();
  rmSync(home, { recursive: true, force: true });
});

describe('in a pipe', () => {
  it('ends without a word when who reads has enough', async () => {
    const child = spawn(
      'sh',
      ['-c', `"${process.execPath}" "${COMMAND}" record export huts --format ndjson | head -1; echo "\${PIPESTATUS:-}" >/dev/null`],
      {
        env: { ...process.env, XDG_CONFIG_HOME: home },
      },
    );
    let [out, err] = ['', ''];
    child.stdout.on('data', (chunk) => (out += chunk));
    child.stderr.on('data', (chunk) => (err += chunk));
    await new Promise((resolve) => child.once('close', resolve));
    expect([out.split('\n').length, err]).toEqual([2, '']);
  });

  it('writes to standard output for `-`, and makes no file of that name', async () => {
    const { out, code } = await orchard(['record', 'export', 'huts', '-', '--format', 'csv', '--fields', 'name']);
    expect([code, out.split('\n')[0], existsSync('-')]).toEqual([0, 'id,name', false]);
  });
});

it.each([
  [['record', 'list', 'huts', '--limitt', '3'], 'Did you mean --limit?', 'orchard record list --help'],
  [['record', 'lst'], 'Did you mean list?', 'orchard record --help'],
])('%j names what was meant, and the help of its own command', async (args, meant, help) => {
  const { code, err } = await orchard(args);
  expect([code, err]).toEqual([2, expect.stringContaining(meant)]);
  expect(err).toContain(`See \`${help}\`.`);
});

describe('without a terminal', () => {
  it.each([
    [['sign-in', 'http://127.0.0.1:1'], '--email'],
    [['sign-in', 'http://127.0.0.1:1', '--email', 'a@b.example'], '--password-stdin'],
    [['sign-in', 'http://127.0.0.1:1', '--email', 'a@b.example', '--password-stdin'], 'Standard input holds no password'],
    [['user', 'add', '--email', 'a@hikers.example'], '--password-stdin'],
    [['user', 'delete', 'x'], '--yes'],
  ])('%j says which option answers', async (args, words) => {
    expect(await orchard(args)).toMatchObject({ code: 2, err: expect.stringContaining(words) });
  });
});

it('keeps profiles side by side, and lists them', async () => {
  const beside = ['--profile', 'beside', 'sign-in', test.address, '--email', OWNER.email, '--password-stdin'];
  expect((await orchard(beside, `${OWNER.password}\n`)).err).toContain('orchard profile use beside');
  expect((await json('profile', 'list')).items).toMatchObject([{ name: 'default' }, { name: 'beside' }]);
  expect((await orchard(['profile', 'list'])).out).toMatch(/default +yes/);
  expect((await orchard(['app', 'list', '--profile', 'nobody'])).err).toContain('There is no profile nobody');
  expect(await orchard(['profile', 'use', 'nobody'])).toMatchObject({ code: 5 });
  await orchard(['profile', 'use', 'beside']);
  expect((await orchard(['profile', 'list'])).out).toMatch(/beside +yes/);
  await orchard(['profile', 'use', 'default']);
});

describe('a code', () => {
  it.each([
    [['record', 'list', 'nowhere'], 5],
    [['user', 'show', '00000000-0000-7000-8000-000000000000'], 5],
    [['record', 'list', 'huts', '--filter', 'nope = 1'], 4],
    [['record', 'list', 'huts', '--limit', 'abc'], 2],
    [['record', 'list', 'huts', '--limit', '0'], 2],
    [['record', 'restore', 'huts', 'x', 'first'], 2],
    [['nothing'], 2],
  ])('of %j is %i', async (args, code) => {
    expect((await orchard(args)).code).toBe(code);
  });

  it('tells a send of which nothing got through from one that did', async () => {
    const { id } = await signUp(test, app.dev.clientKey, 'runa');
    await test.app('PUT', '/devices/phone-0001', {
      key: app.dev.clientKey,
      body: {
        platform: 'web',
        appVersion: '1',
        os: 'Linux',
        locale: 'en',
        timeZone: 'UTC',
        permission: 'granted',
        subscription: { endpoint: `${test.simulators.address}/push/nowhere`, keys: { p256dh: `B${'A'.repeat(86)}`, auth: 'A'.repeat(22) } },
      },
    });
    const { code, err } = await orchard(['notify', 'send', '--title', 'x', '--device', 'phone-0001', '--wait']);
    expect([code, err]).toEqual([1, expect.stringContaining('No delivery succeeded: 1 of 1 failed')]);
    expect(id).toBeTruthy();
  });
});

describe('help', () => {
  it('tells the exit codes, marks what is required, and says what each scope lets one do', async () => {
    expect((await orchard(['--help'])).out).toContain('5 not found');
    const add = (await orchard(['key', 'add', '--help'])).out;
    expect(add).toMatch(/--name <text> +what it is for \(required\)/);
    expect(add).toMatch(/users:read +Read the accounts of all users/);
    expect((await orchard(['client', 'add', '--help'])).out).toMatch(/--kind <kind> +\(required; one of ios/);
    expect((await orchard(['key', 'scopes'])).out).toContain('Create, change, restore and delete every record');
  });
});

describe('a file', () => {
  it('with semicolons between its cells is read, and said to be', async () => {
    const file = join(home, 'trails.csv');
    writeFileSync(file, 'name;lengthKm;note\nRidge;12.5;"a; b"\nCol;3;x,y\n');
    const { code, err } = await orchard(['record', 'import', 'trails', file]);
    expect([code, err]).toEqual([0, expect.stringContaining('The detected delimiter is `;`')]);
    expect((await json('record', 'list', 'trails', '--sort', 'name')).items).toMatchObject([
      { name: 'Col', lengthKm: 3, note: 'x,y' },
      { name: 'Ridge', lengthKm: 12.5, note: 'a; b' },
    ]);
  });
});

describe('a field of integers', () => {
  const add = (id: string, nights: number) => orchard(['record', 'add', 'stays', JSON.stringify({ id, nights })]);
  it('that a fraction makes one of numbers is told about in the answer and to the team, and can be kept as it is', async () => {
    await add('a', 2);
    const widened = await test.app('POST', '/data/stays', { key: app.dev.serverKey, body: { nights: 2.5 } });
    expect([widened.status, widened.headers.get('orchard-notice')]).toEqual([
      201,
      'Field `nights` in `stays` is a number field now; it held integers before.',
    ]);
    expect((await test.owner.call(operations.notices.list, {})).items[0]?.title).toBe('`nights` in `stays` is a number field now');
    await orchard(['env', 'widening', 'off']);
    await orchard(['record', 'add', 'trips', '{"id":"a","days":1}']);
    const refused = await test.app('POST', '/data/trips', { key: app.dev.serverKey, body: { days: 1.5 } });
    expect(refused).toMatchObject({ status: 422, body: { detail: expect.stringContaining('must be an integer') } });
    await orchard(['env', 'widening', 'on']);
  });
});

it('lists, changes and removes members, and changes your own password', async () => {
  const add = ['member', 'invite', 'ines@quillfell.example', '--name', 'Ines', '--roles', 'quillfell-hiker=viewer', '--password-stdin'];
  expect(await orchard(add, 'larch-and-lantern\n')).toMatchObject({ code: 0 });
  const ines = (await json('member', 'list')).items.find(({ name }: { name: string }) => name === 'Ines');
  expect(await orchard(['member', 'change', ines.id, '--roles', 'quillfell-hiker/dev=developer,quillfell-hiker/live=none'])).toMatchObject({
    code: 0,
  });
  expect((await orchard(['member', 'password-link', 'Ines@quillfell.example'])).out).toContain('/new-password?of=member&token=');
  expect(await orchard(['member', 'remove', 'ines@quillfell.example', '--yes'])).toMatchObject({ code: 0 });
  expect(await orchard(['member', 'remove', 'ines@quillfell.example', '--yes'])).toMatchObject({
    code: 5,
    err: expect.stringContaining('There is no member ines@quillfell.example'),
  });
  expect(await orchard(['member', 'remove', ines.id, '--yes'])).toMatchObject({ code: 5 });
  expect(await orchard(['password', '--password-stdin'], `${OWNER.password}\nanother-good-one\n`)).toMatchObject({ code: 0 });
  expect(await orchard(['password', '--password-stdin'], `another-good-one\n${OWNER.password}\n`)).toMatchObject({ code: 0 });
});

it('shows a request that belongs to no environment', async () => {
  await fetch(`${test.address}/app/v1/data/huts`, { headers: { 'orchard-key': 'ckey-wrong' } });
  await new Promise((resolve) => setTimeout(resolve, 1_500));
  const [first] = (await json('request', 'list', '--installation', '--filter', "problem = 'key-mistyped'")).items;
  expect((await json('request', 'show', first.id, '--installation')).problem).toBe('key-mistyped');
});

it('lists, retries and drops jobs', async () => {
  const { jobs, directory } = test.service.parts;
  const environment = await directory.environment('quillfell-hiker', 'dev');
  await jobs.add(environment.db, environment, 'of-a-newer-version', 'subject-1');
  const [job] = (await json('job', 'list')).items;
  expect((await orchard(['job', 'list'])).out).toContain('subject-1');
  expect(await json('job', 'retry', job.id)).toMatchObject({ kind: 'of-a-newer-version', state: 'waiting' });
  expect(await orchard(['job', 'drop', job.id, '--yes'])).toMatchObject({ code: 0 });
  expect(await orchard(['job', 'drop', job.id, '--yes'])).toMatchObject({ code: 5, err: expect.stringContaining('orchard job list') });
});
