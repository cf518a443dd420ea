/** The team's own code, and systems behind, from the command line. */
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { Offices, WEATHER_DOCUMENT, WEATHER_KEY } from '@orchard/simulators';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, OWNER, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openTerminal } from './terminal.js';

let test: TestService;
let app: TestApp;
let office: Offices;
const { home, orchard, spawned, json } = openTerminal();
const file = (name: string, text: string): string => {
  const path = join(home, name);
  mkdirSync(join(path, '..'), { recursive: true });
  writeFileSync(path, text);
  return path;
};

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  office = new Offices();
  await office.start();
  test.config.pushOrigins.push(office.address);
  app = await makeApp(test, 'quillfell-hiker');
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: { name: 'huts', fields: [{ name: 'bunks', type: 'integer' }] },
  });
  await spawned(['sign-in', test.address, '--email', OWNER.email, '--password-stdin'], `${OWNER.password}\n`);
  await orchard(['use', 'quillfell-hiker/dev']);
});
afterAll(async () => {
  await test.stop();
  await office.stop();
  rmSync(home, { recursive: true, force: true });
});

describe('orchard function', () => {
  it('pushes a folder with its tests, pulls it again, and says what is wrong with where and what', async () => {
    file(
      'hut-check/main.ts',
      "const handler: BeforeWrite<'huts'> = ({ record }, { refuse }) => { if (record!.bunks! > 80) refuse('Too many.'); };\nexport default handler;\n",
    );
    file(
      'hut-check/main.test.ts',
      "test('80 is the most', { when: { record: { bunks: 81 } }, then: ({ refusal }, { equal }) => equal(refusal?.text, 'Too many.') });\n",
    );
    const push = (...more: string[]) => orchard(['function', 'push', 'hut-check', join(home, 'hut-check'), ...more]);
    expect(await push('--on', 'before huts')).toMatchObject({ code: 2, err: expect.stringContaining('--on takes three words') });
    expect(await push('--on', 'before create,update huts')).toMatchObject({
      code: 0,
      err: 'Saved version 1 of hut-check; it is in force.\n',
    });
    // What is not said again stays as it is.
    expect(await push()).toMatchObject({ code: 0, err: 'Saved version 2 of hut-check; it is in force.\n' });
    expect((await orchard(['function', 'list'])).out).toMatch(/hut-check\s+hook\s+before create, update of huts\s+2 of 2/);
    file('hut-check/main.test.ts', "test('it fails', { then: (_, { holds }) => holds(false, 'no') });\n");
    expect(await push()).toMatchObject({ code: 4, err: expect.stringContaining('The test "it fails" fails: no') });
    await orchard(['function', 'pull', 'hut-check', join(home, 'pulled')]);
    expect(readFileSync(join(home, 'pulled/main.ts'), 'utf8')).toContain('Too many.');
    expect(existsSync(join(home, 'pulled/main.test.ts'))).toBe(true);
  });

  it('tries a hook and a schedule on events, and shows runs with what they ran for', async () => {
    const tried = await orchard(['function', 'try', 'hut-check', '--event', '{"record":{"bunks":99}}']);
    expect(tried.out).toMatch(/^refused: \{"text":"Too many\."/);
    expect(await orchard(['function', 'try', 'hut-check', '--event', '{'])).toMatchObject({
      code: 2,
      err: expect.stringContaining('--event is no JSON'),
    });
    const clock = file('tally.ts', 'export default (({ due }, { log }) => log.info(due)) as Schedule;');
    expect(await orchard(['function', 'push', 'tally', clock, '--clock', '61 * * * *'])).toMatchObject({
      code: 4,
      err: expect.stringContaining('minute'),
    });
    await orchard(['function', 'push', 'tally', clock, '--clock', '0 6 * * *', '--zone', 'Europe/Oslo', '--missed', 'skip']);
    expect(await json('function', 'show', 'tally')).toMatchObject({
      kind: 'schedule',
      clock: '0 6 * * *',
      zone: 'Europe/Oslo',
      missed: 'skip',
    });
    expect((await orchard(['function', 'try', 'tally', '--event', '{"due":"2027-01-01T05:00:00.000Z"}'])).out).toContain('2027-01-01T05');
    await test.app('POST', '/data/huts', { key: app.dev.serverKey, body: { bunks: 99 } });
    expect((await orchard(['function', 'log', 'hut-check'])).out).toContain('before create of huts: refused');
  });

  it('runs a failed hook again, and refuses what no job ran', async () => {
    const after = file('after.ts', "export default (() => { throw new Error('storm'); }) as AfterWrite<'huts'>;");
    await orchard(['function', 'push', 'after', after, '--on', 'after create huts']);
    await test.app('POST', '/data/huts', { key: app.dev.serverKey, body: { bunks: 9 } });
    const run = await eventually(
      async () => (await test.owner.call(operations.functions.runs, { params: { ...app.dev.params, name: 'after' } })).items[0],
    );
    expect((await orchard(['function', 'again', 'after', run.id])).out).toMatch(/^key\s+[0-9a-f-]{36}/);
    const [refused] = (await test.owner.call(operations.functions.runs, { params: { ...app.dev.params, name: 'hut-check' } })).items;
    expect(await orchard(['function', 'again', 'hut-check', refused?.id as string])).toMatchObject({
      code: 4,
      err: expect.stringContaining('answered a caller'),
    });
    await orchard(['function', 'remove', 'after', '--yes']);
  });

  it('pushes an endpoint without code, and prints the document of the environment', async () => {
    const combined = file(
      'combine.json',
      JSON.stringify({ calls: { list: { records: 'huts', list: { limit: 1 } } }, answer: { huts: '{list.items}' } }),
    );
    expect(await orchard(['function', 'push', 'page', combined, '--path', 'pages/{hut}', '--callers', 'anyone'])).toMatchObject({
      code: 0,
    });
    expect((await test.app('GET', '/endpoints/pages/x', { key: app.dev.serverKey })).body.huts).toHaveLength(1);
    expect(JSON.parse((await orchard(['function', 'document'])).out).paths['/app/v1/endpoints/pages/{hut}'].get.operationId).toBe(
      'page.get',
    );
  });
});

describe('orchard upstream', () => {
  it('adds one from a file, checks, describes and tries it, and says who uses it', async () => {
    const definition = file(
      'weather.json',
      JSON.stringify({
        address: `${office.address}/weather`,
        identify: { way: 'header', header: 'X-Weather-Key', secret: 'weather-key' },
        operations: [{ name: 'forecast', path: '/forecasts/{hut}', callers: 'anyone' }],
      }),
    );
    expect((await orchard(['upstream', 'put', 'weather', definition])).out).toBe(
      'failed  There is no secret weather-key. Set it with `orchard secret set weather-key`.\n',
    );
    await spawned(['secret', 'set', 'weather-key', '--value-stdin'], `${WEATHER_KEY}\n`);
    expect(await orchard(['upstream', 'check', 'weather'])).toMatchObject({
      code: 0,
      out: 'passed  It answers, and takes what it is shown.\n',
    });
    expect(await orchard(['upstream', 'describe', 'weather', file('api.json', JSON.stringify(WEATHER_DOCUMENT))])).toMatchObject({
      err: 'weather has 1 operations; 1 are open.\n',
    });
    expect((await orchard(['upstream', 'operations', 'weather'])).out).toMatch(/GET\s+\/forecasts\/\{hut\}\s+The forecast for a hut\s+yes/);
    expect((await orchard(['upstream', 'try', 'weather', '/forecasts/fellgate'])).out).toMatch(
      /^200 after [\d.]+ ms\n\{\n {2}"hut": "fellgate"/,
    );
    expect((await orchard(['upstream', 'list'])).out).toMatch(/weather\s+http.*header\s+1\s+real\s+well: \d calls, 0 failed/);
    await test.app('GET', '/upstreams/weather/forecasts/fellgate', { key: app.dev.clientKey });
    await eventually(async () => /client \S+\s+upstream weather/.test((await orchard(['uses', '--of', 'upstream:weather'])).out));
    expect(await orchard(['upstream', 'put', 'weather', file('bad.json', '{')])).toMatchObject({
      code: 2,
      err: expect.stringContaining('cannot be read'),
    });
    expect(await orchard(['upstream', 'remove', 'weather', '--yes'])).toMatchObject({ code: 0 });
  });
});
