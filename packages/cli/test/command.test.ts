import { spawn } from 'node:child_process';
import { readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { SMS_ACCOUNT } from '@orchard/simulators';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, OWNER, signUp, startTestService, type TestService } from '../../service/test/support.js';
import { COMMAND, openTerminal } from './terminal.js';

let test: TestService;
let userId: string;
const { home, orchard, spawned, json } = openTerminal();

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  const { dev } = await makeApp(test, 'quillfell-hiker');
  userId = (await signUp(test, dev.clientKey, 'runa')).id;
});
afterAll(async () => {
  await test.stop();
  rmSync(home, { recursive: true, force: true });
});

it('asks to sign in first, refuses a wrong password, then remembers who you are and where you work', async () => {
  expect(await spawned(['app', 'list'])).toMatchObject({ code: 3, err: 'You are not signed in. Run `orchard sign-in <address>` first.\n' });
  const signIn = (password: string) => spawned(['sign-in', test.address, '--email', OWNER.email, '--password-stdin'], `${password}\n`);
  expect(await signIn('wrong')).toMatchObject({ code: 3, err: expect.stringContaining('E-mail address or password is wrong.') });
  expect(await signIn(OWNER.password)).toMatchObject({ code: 0, err: `Signed in to ${test.address} as Mira Quill.\n` });
  expect(statSync(join(home, 'orchard/settings.json')).mode & 0o077).toBe(0);
  expect(await spawned(['collection', 'list'])).toMatchObject({ code: 2, err: expect.stringContaining('orchard use') });
  expect(await spawned(['use', 'quillfell-hiker/nowhere'])).toMatchObject({ code: 5 });
  expect(await spawned(['use', 'quillfell-hiker/dev'])).toMatchObject({ code: 0 });
});

describe('signed in', () => {
  it('stores, lists, changes and deletes records', async () => {
    const stored = await json('record', 'add', 'huts', '{"id":"cold-tarn","name":"Cold Tarn","bunks":24}');
    expect(stored).toMatchObject({ id: 'cold-tarn', version: 1 });
    await orchard(['record', 'add', 'huts', '-'], '{"name":"Dunmere, the \\"low\\" one","bunks":12}');
    expect((await orchard(['record', 'list', 'huts', '--filter', 'bunks > 20'])).out).toBe(
      'id         version  name       bunks\ncold-tarn        1  Cold Tarn     24\n',
    );
    expect((await orchard(['record', 'list', 'huts', '--fields', 'name', '--filter', 'bunks < 20', '--csv'])).out).toMatch(
      /^id,version,name\n[0-9a-f-]{36},1,"Dunmere, the ""low"" one"\n$/,
    );
    expect(await json('record', 'change', 'huts', 'cold-tarn', '{"bunks":26}', '--if-match', '1')).toMatchObject({ bunks: 26, version: 2 });
    expect(await orchard(['record', 'change', 'huts', 'cold-tarn', '{"bunks":27}', '--if-match', '1'])).toMatchObject({
      code: 4,
      err: expect.stringContaining('it is at version 2 now'),
    });
    expect(await orchard(['record', 'add', 'huts', '{"bunks":"two"}'])).toMatchObject({
      code: 4,
      out: '',
      err: expect.stringContaining('Field `bunks` in `huts` must be an integer; got "two".'),
    });
    expect(await orchard(['record', 'delete', 'huts', 'cold-tarn'])).toMatchObject({ code: 2, err: expect.stringContaining('--yes') });
    expect(await orchard(['record', 'delete', 'huts', 'cold-tarn', '--yes'])).toMatchObject({ code: 0 });
    expect(await orchard(['record', 'show', 'huts', 'cold-tarn'])).toMatchObject({
      code: 5,
      err: expect.stringContaining('`huts` has no record `cold-tarn`.'),
    });
  });

  it('makes apps, environments, clients and keys', async () => {
    expect((await orchard(['app', 'add', 'quillfell-warden'])).out).toContain('dev, live');
    expect(await json('env', 'add', 'stage', '--app', 'quillfell-warden', '--mode', 'open')).toMatchObject({
      app: 'quillfell-warden',
      name: 'stage',
      mode: 'open',
    });
    const place = ['--app', 'quillfell-warden', '--env', 'stage'];
    expect(await json('client', 'add', 'tablet', '--kind', 'web', '--origins', 'https://warden.quillfell.example', ...place)).toMatchObject(
      {
        keys: [{ key: expect.stringMatching(/^ckey-/) }],
      },
    );
    expect(JSON.parse((await orchard(['client', 'profile', 'tablet', ...place])).out)).toMatchObject({
      address: test.address,
      app: 'quillfell-warden',
      environment: 'stage',
      client: 'tablet',
    });
    await orchard(['client', 'add', 'office', '--kind', 'server', ...place]);
    expect(await orchard(['key', 'add', 'office', '--name', 'x', '--scopes', 'all', ...place])).toMatchObject({
      code: 2,
      err: expect.stringContaining('`all` is not one of records:read'),
    });
    const key = await json('key', 'add', 'office', '--name', 'nightly', '--scopes', 'records:read,notify:send', ...place);
    expect(key.key).toMatch(/^skey-/);
    expect((await orchard(['key', 'list', ...place])).out).toContain('records:read notify:send');
    expect(await orchard(['key', 'revoke', 'office', key.id, '--yes', ...place])).toMatchObject({ code: 0 });
    expect((await json('key', 'list', ...place)).items.find(({ id }: { id: string }) => id === key.id).revokedAt).not.toBeNull();
  });

  it('manages users and devices', async () => {
    expect(await json('user', 'change', userId, '--roles', 'warden,hiker')).toMatchObject({ roles: ['warden', 'hiker'] });
    expect((await orchard(['user', 'list', '--filter', "email LIKE 'runa%'"])).out).toContain('warden hiker');
    expect(await json('user', 'show', 'RUNA@hikers.example')).toMatchObject({ id: userId });
    expect(await orchard(['user', 'sessions', 'nobody@hikers.example'])).toMatchObject({
      code: 5,
      err: expect.stringContaining('There is no user nobody@hikers.example in quillfell-hiker/dev'),
    });
    const made = await orchard(['user', 'add', '--email', 'wren@hikers.example', '--password-stdin', '--json'], 'over-the-col\n');
    expect(JSON.parse(made.out)).toMatchObject({ email: 'wren@hikers.example' });
    expect((await orchard(['device', 'list'])).err).toBe('Nothing found.\n');
  });

  it('sends a notification and tells what became of it', async () => {
    const { items } = await test.owner.call(operations.clients.list, { params: { app: 'quillfell-hiker', environment: 'dev' } });
    await test.simulators.connect({ address: test.address, clientKey: items[0]?.keys[0]?.key as string }, [
      {
        name: 'phone',
        platform: 'ios',
        model: 'Tern',
        os: 'iOS 19',
        appVersion: '2.4.1',
        locale: 'en-GB',
        timeZone: 'Europe/London',
        person: { name: 'Ivo', email: 'ivo@hikers.example', password: 'ridge-and-river' },
      },
    ]);
    await test.simulators.handsets()[0]?.allow();
    expect(await orchard(['notify', 'send', '--title', 'Ridge closed'])).toMatchObject({
      code: 2,
      err: expect.stringContaining('Give one of --everyone'),
    });
    const sent = await orchard(['notify', 'send', '--title', 'Ridge closed', '--everyone', '--wait']);
    expect(sent.out).toMatch(/total +1\nqueued +0\n/);
    const id = /notification +(\S+)/.exec(sent.out)?.[1] as string;
    expect((await orchard(['notify', 'deliveries', id, '--csv'])).out).toMatch(/,web-push,ios,(accepted|arrived),1,201,/);
    expect((await orchard(['device', 'list'])).out).toMatch(/ios +iOS 19 +2\.4\.1 +en-GB +yes/);
  });

  it('previews an audience, keeps a draft, and starts it', async () => {
    expect((await orchard(['notify', 'send', '--title', 'x', '--filter', "platform = 'ios'", '--preview'])).out).toMatch(
      /1 of 1 reachable\n +1 ios through web-push/,
    );
    const draft = await orchard(['notify', 'send', '--title', 'Later', '--topic', 'ridge-weather', '--draft']);
    const id = /notification +(\S+)/.exec(draft.out)?.[1] as string;
    expect(draft.out).toMatch(/state +draft/);
    expect((await orchard(['topic', 'add', 'ridge-weather', '--title', 'Ridge weather'])).out).toMatch(/title +Ridge weather/);
    const [device] = (await json('device', 'list')).items;
    expect((await orchard(['topic', 'follow', 'ridge-weather', '--devices', device.id])).out).toMatch(/devices +1/);
    expect(await orchard(['notify', 'send', '--kept', id, '--title', 'Later on', '--to', '+12025550142'])).toMatchObject({
      code: 2,
      err: expect.stringContaining('--way sms or --way mail'),
    });
    expect((await orchard(['notify', 'send', '--kept', id, '--title', 'Later on', '--topic', 'ridge-weather', '--draft'])).out).toMatch(
      /Later on/,
    );
    expect((await orchard(['notify', 'start', id])).out).toMatch(/total +1/);
    expect(await orchard(['notify', 'resume', id])).toMatchObject({
      code: 4,
      err: expect.stringContaining('only one that is stopped can be resumed'),
    });
    expect((await orchard(['topic', 'list', '--csv'])).out).toContain('ridge-weather,Ridge weather,,1,0');
  });

  it('adds a gateway for SMS, checks it, and shows what a message would cost', async () => {
    const settings = JSON.stringify({
      host: '127.0.0.1',
      port: test.simulators.sms.port,
      systemId: SMS_ACCOUNT.systemId,
      sender: 'Quillfell',
    });
    const added = await orchard(
      ['gateway', 'add', 'heron', '--kind', 'smpp', '--stage', 'trial', '--settings', settings, '--password-stdin'],
      `${SMS_ACCOUNT.password}\n`,
    );
    expect(added.out).toContain('missing  Not checked yet');
    expect(await orchard(['gateway', 'check', 'heron'])).toMatchObject({ code: 0, out: 'passed  bind: Bound as quillfell to HERON.\n' });
    expect((await orchard(['gateway', 'list'])).out).toMatch(/heron +smpp +trial +yes/);
    const preview = await orchard(['sms', 'send', '--text', 'Ridge closed – stay.', '--to', '+12025550142', '--preview']);
    expect(preview.out).toContain('– not in the GSM alphabet');
    expect(await orchard(['sms', 'send', '--text', 'x', '--to', '12'])).toMatchObject({
      code: 4,
      err: expect.stringContaining('Write it as +'),
    });
    expect((await orchard(['sms', 'send', '--text', 'Ridge closed.', '--to', '+12025550142'])).out).toMatch(/total +1/);
    expect(await orchard(['gateway', 'remove', 'web-push', '--yes'])).toMatchObject({
      code: 4,
      err: expect.stringContaining('cannot be removed'),
    });
  });

  it('shows what a device was sent, keeps channels, and changes settings for messages', async () => {
    const [device] = (await json('device', 'list')).items;
    expect((await orchard(['device', 'sent', device.id])).out).toMatch(/Later on +(accepted|arrived)/);
    expect((await orchard(['channel', 'add', 'huts/fellgate', '--listen', 'TRUE', '--keep', '20'])).out).toMatch(/keep +20/);
    expect(await orchard(['channel', 'add', 'huts/fellgate', '--publish', 'nobody = 1'])).toMatchObject({
      code: 4,
      err: expect.stringContaining('nobody'),
    });
    expect((await orchard(['channel', 'publish', 'huts/fellgate', '--data', '{"fire":"lit"}'])).out).toMatch(/number +\d+/);
    expect((await orchard(['channel', 'show', 'huts/fellgate'])).out).toMatch(/listen +TRUE[\s\S]+\{"fire":"lit"\}/);
    expect((await orchard(['channel', 'list'])).out).toMatch(/huts\/fellgate +0 +1 +20 +TRUE/);
    expect(await orchard(['channel', 'remove', 'huts/fellgate', '--yes'])).toMatchObject({ code: 0 });
    expect((await orchard(['messaging', 'set', '{"retireAfterDays":90}'])).out).toMatch(/retireAfterDays +90/);
    expect(await orchard(['messaging', 'set', '{"retireAfterDays":-1}'])).toMatchObject({ code: 4 });
    expect((await orchard(['notice', 'list'])).code).toBe(0);
  });

  it('shows requests and use', async () => {
    await new Promise((resolve) => setTimeout(resolve, 1500));
    const { items } = await json('request', 'list', '--filter', "route = '/app/v1/users'");
    expect((await orchard(['request', 'show', items[0].id])).out).toMatch(/status +201/);
    expect((await orchard(['usage', '--since', '1h'])).out).toMatch(/^route +calls +4xx +5xx +p50 ms[\s\S]*all together/);
    expect(await orchard(['usage', '--since', 'ages'])).toMatchObject({
      code: 2,
      err: '`ages` is not a duration. Write one such as 30m, 24h or 7d.\n',
    });
  });
});

it('completes words', async () => {
  expect((await orchard(['complete', '--', 'rec'])).out).toBe('record\n');
  expect((await orchard(['complete', '--', 'record', 'l'])).out).toBe('list\n');
  expect((await orchard(['complete', '--', 'record', 'list', '--fil'])).out).toBe('--filter\n');
  for (const shell of ['bash', 'zsh', 'fish']) expect((await orchard(['completion', shell])).out).toContain('orchard complete --');
});

describe('with the whole of a collection', () => {
  it('imports a file with a bar for people, puts what does not fit beside it, and exports it again', async () => {
    const file = join(home, 'cabins.csv');
    writeFileSync(file, 'Name,lon,lat,beds\nSkarn,8.1,61.2,12\nLost,8.2,95,4\nBrae,,,6\n');
    await orchard(['collection', 'add', 'cabins', '--fields', 'name:text,position:place,beds:integer']);
    const map = ['--map', 'Name=name,lon=position.longitude,lat=position.latitude'];
    expect(await orchard(['record', 'import', 'cabins', file, ...map, '--strict'])).toMatchObject({
      code: 4,
      err: expect.stringContaining('Line 3:'),
    });
    expect(await orchard(['record', 'import', 'cabins', file, ...map, '--check'])).toMatchObject({
      code: 1,
      err: expect.stringContaining('2 rows fit. Nothing was stored.'),
    });
    const imported = await orchard(['record', 'import', 'cabins', file, ...map]);
    expect(imported).toMatchObject({
      code: 1,
      err: expect.stringMatching(/Stored 2 records in [\d.]+ s\.\n1 row does not fit\. They are in .*cabins\.csv\.rejects\.ndjson/),
    });
    expect(JSON.parse(readFileSync(`${file}.rejects.ndjson`, 'utf8'))).toMatchObject({
      line: 3,
      reason: expect.stringContaining('must be a GeoJSON Point'),
    });
    const out = await orchard(['record', 'export', 'cabins', '--format', 'csv', '--filter', "name = 'Skarn'", '--fields', 'name,beds']);
    expect(out.out).toMatch(/^id,name,beds\n[0-9a-f-]{36},Skarn,12\n$/);
    expect(await orchard(['record', 'import', 'cabins', join(home, 'nothing.csv')])).toMatchObject({
      code: 2,
      err: expect.stringContaining('There is no file'),
    });
    expect(await orchard(['record', 'import', 'cabins', join(home, 'notes.txt')])).toMatchObject({
      code: 2,
      err: expect.stringContaining('--format'),
    });
  });

  it('changes fields only after a look, tries rules, advises on indexes, and shows history', async () => {
    await orchard(['record', 'add', 'cabins', '{"id":"a","name":"A","beds":3}']);
    await orchard(['record', 'change', 'cabins', 'a', '{"beds":4}']);
    expect((await orchard(['collection', 'change-field', 'cabins', 'beds', '{"type":"integer","min":5}', '--preview'])).out).toMatch(
      /set beds integer +2 +1 +a: 4 Field `beds` in `cabins` must be at least 5; got 4\./,
    );
    expect(await orchard(['collection', 'change-field', 'cabins', 'beds', '{"type":"integer","min":5}'])).toMatchObject({
      code: 4,
      err: expect.stringContaining('1 of 3 records of `cabins` do not fit'),
    });
    expect((await orchard(['collection', 'rename-field', 'cabins', 'beds', 'bunks'])).out).toContain('bunks');
    expect((await orchard(['collection', 'schema', 'cabins'])).out).toContain('"$schema": "https://json-schema.org/draft/2020-12/schema"');
    expect((await orchard(['record', 'history', 'cabins', 'a'])).out).toContain('beds: 3 → 4');
    expect((await orchard(['collection', 'try', 'cabins', 'read', 'a'])).out).toBe(
      "refused  by ownerId = me('id')\n  unknown  ownerId = me('id')  ← decides\n",
    );
    await orchard(['record', 'list', 'cabins', '--filter', "name = 'A'"]);
    expect((await orchard(['collection', 'advice', 'cabins'])).out).toContain('name = …');
    expect((await orchard(['collection', 'add-index', 'cabins', 'position'])).out).toContain('place');
    expect((await orchard(['record', 'summary', 'cabins', '--measure', 'count,max:bunks'])).out).toBe(
      'count  max:bunks\n    3         12\n',
    );
  });

  it('watches records until it is told to end', async () => {
    const child = spawn(process.execPath, [COMMAND, 'record', 'watch', 'cabins', '--filter', 'bunks > 20'], {
      env: { ...process.env, XDG_CONFIG_HOME: home },
    });
    let out = '';
    child.stdout.on('data', (chunk) => {
      out += chunk;
    });
    await eventually(() => out.includes('ready'));
    await orchard(['record', 'add', 'cabins', '{"id":"large","name":"Large","bunks":21}']);
    await eventually(() => out.includes('entered  large v1  by Mira Quill'));
    await orchard(['record', 'delete', 'cabins', 'large', '--yes']);
    await eventually(() => /left +large v2/.test(out));
    child.kill('SIGINT');
    expect(await new Promise((resolve) => child.once('close', resolve))).toBe(0);
  });
});

it('says what it does not understand, and when the service is away', async () => {
  expect(await orchard(['record', 'lst'])).toMatchObject({ code: 2, err: expect.stringContaining('Did you mean list?') });
  expect(await orchard(['sign-in', 'nowhere'])).toMatchObject({ code: 2 });
  expect(await orchard(['sign-in', 'http://127.0.0.1:9', '--email', 'a@b.example', '--password-stdin'], 'x\n')).toMatchObject({
    code: 1,
    err: expect.stringContaining('The service cannot be reached'),
  });
});
