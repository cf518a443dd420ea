/** How an environment fares, from the terminal: objectives as a file, requests, the log, planned work and alerts. */
import { readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openTerminal, signIn } from './terminal.js';

const { home, orchard, json } = openTerminal();
let test: TestService;
let app: TestApp;
const appLog = (entries: object[]) => test.app('POST', '/log', { key: app.dev.clientKey, body: { entries } });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  await signIn({ orchard }, test.address, 'quillfell-hiker/dev');
});
afterAll(async () => {
  await test.stop();
  rmSync(home, { recursive: true, force: true });
});

describe('objectives as a file', () => {
  const file = join(home, 'objectives.yaml');
  const fastAnswers = async () => {
    const { items } = await json('objective', 'list');
    return items.find(({ name }: { name: string }) => name === 'fast-answers');
  };

  it('come out as OpenSLO, and going in again change nothing', async () => {
    const { out } = await orchard(['objective', 'export']);
    expect(out).toContain('apiVersion: openslo/v1');
    writeFileSync(file, out);
    expect(await orchard(['objective', 'import', file])).toMatchObject({ code: 0, err: 'Nothing differs from the objectives of now.\n' });
  });

  it('show a change before it is stored, and who stored it and why afterwards', async () => {
    const stressed = (await fastAnswers()).stressed as number;
    const text = readFileSync(file, 'utf8').replace(`target: ${stressed}`, 'target: 0.97');
    writeFileSync(file, text);
    const shown = await orchard(['objective', 'import', file]);
    expect(shown.out).toMatch(/changed +fast-answers/);
    expect(shown.err).toContain('Nothing is stored yet: --apply stores it.');
    expect((await fastAnswers()).stressed).toBe(stressed);
    await orchard(['objective', 'import', file, '--apply', '--why', 'Hikers wait at the bridge']);
    expect((await fastAnswers()).stressed).toBe(0.97);
    expect((await orchard(['objective', 'versions'])).out).toContain('Hikers wait at the bridge');
  });

  it('of another version, or of something else, say what was found and what is expected', async () => {
    const other = join(home, 'other.yaml');
    writeFileSync(other, readFileSync(file, 'utf8').replaceAll('openslo/v1', 'openslo/v9'));
    const { code, err } = await orchard(['objective', 'import', other]);
    expect([code, err]).toEqual([4, expect.stringContaining('a file of the version `openslo/v9`. Expected: `openslo/v1`.')]);
    writeFileSync(other, 'bunks: 12\n');
    expect(await orchard(['objective', 'import', other])).toMatchObject({ code: 4 });
  });

  it('are tried with other limits before anybody is woken by them', async () => {
    const tried = await orchard(['objective', 'try', 'fast-answers', '--stressed', '0.99', '--failing', '0.9']);
    expect(tried.out).toMatch(/^limits +stressedBeyond/);
    expect(tried.out).toMatch(/^now +97 %/m);
    expect(tried.out).toMatch(/^tried +99 %/m);
    expect((await orchard(['objective', 'try', 'fast-answer'])).code).toBe(5);
  });
});

describe('requests', () => {
  it('are found by their problem, repeated with curl, and saved as HAR 1.2', async () => {
    await test.app('GET', '/data/huts/zimmer', { key: app.dev.serverKey });
    const request = await eventually(async () => (await json('request', 'list', '--filter', "problem = 'collection-unknown'")).items[0]);
    expect(request).toMatchObject({ status: 404, client: 'office' });
    const { out } = await orchard(['request', 'curl', request.id]);
    expect(out).toContain(`${test.address}/app/v1/data/huts/zimmer`);
    expect(out, 'the key is masked').not.toContain(app.dev.serverKey);
    const har = JSON.parse((await orchard(['request', 'har', '--filter', "problem = 'collection-unknown'"])).out);
    expect(har.log).toMatchObject({ version: '1.2', entries: [{ request: { method: 'GET' }, response: { status: 404 } }] });
  });

  it('are counted by problem and by route', async () => {
    await eventually(async () => (await orchard(['problem', 'list'])).out.includes('collection-unknown'));
    expect((await orchard(['usage', '--by', 'client'])).out).toMatch(/office +\d+ +1 +0/);
  });
});

describe('the log', () => {
  it('finds characters of a pattern as they are, and leaves out what does not fit', async () => {
    const at = new Date().toISOString();
    await appLog([
      { at, level: 'warning', text: 'Battery at 5 %' },
      { at, level: 'info', text: 'Battery at 50' },
    ]);
    const found = await eventually(async () => {
      const { items } = await json('log', 'list', '--text', '5 %');
      return items.length > 0 && items;
    });
    expect(found.map(({ text }: { text: string }) => text)).toEqual(['Battery at 5 %']);
    const lines = (await orchard(['log', 'export', '--filter', "level = 'warning'"])).out.trim().split('\n');
    expect(lines.map((line) => JSON.parse(line).text)).toContain('Battery at 5 %');
  });

  it('is raised for one source, and says until when', async () => {
    const { out } = await orchard(['log', 'level', 'gateway', 'debug', '--minutes', '10']);
    expect(out).toMatch(/^gateway {2}debug until \d{4}-/m);
    expect((await json('log', 'levels')).raised).toMatchObject([{ source: 'gateway', level: 'debug' }]);
    expect(await orchard(['log', 'level', 'gateway', 'loud'])).toMatchObject({ code: 4, err: expect.stringContaining('debug') });
  });
});

describe('planned work and alerts', () => {
  it('is announced, listed and taken back', async () => {
    const from = new Date(Date.now() + 3_600_000).toISOString();
    const until = new Date(Date.now() + 7_200_000).toISOString();
    await orchard(['planned-work', 'add', '--from', from, '--until', until, '--why', 'The hut gets a new roof']);
    const { items } = await json('planned-work', 'list');
    expect(items).toMatchObject([{ from, until, why: 'The hut gets a new roof' }]);
    const backwards = ['planned-work', 'add', '--from', until, '--until', from, '--why', 'The wrong way round'];
    expect((await orchard(backwards)).code).toBe(4);
    expect((await orchard(['planned-work', 'remove', items[0].id, '--yes'])).err).toBe('Removed.\n');
    expect((await json('planned-work', 'list')).items).toEqual([]);
  });

  it('goes out of the terminal and in again as JSON', async () => {
    const before = await json('alert', 'show');
    const rule = { name: 'blocked', on: 'blocked-origin', steps: [[{ to: 'role', role: 'owner' }]] };
    expect(await orchard(['alert', 'set', '-'], JSON.stringify({ ...before, rules: [...before.rules, rule] }))).toMatchObject({ code: 0 });
    expect((await json('alert', 'show')).rules.map(({ name }: { name: string }) => name)).toContain('blocked');
    const nobody = { ...rule, steps: [[{ to: 'on-call', rota: 'night' }]] };
    const refused = await orchard(['alert', 'set', '-'], JSON.stringify({ rules: [nobody], rotas: [] }));
    expect([refused.code, refused.err]).toEqual([4, expect.stringContaining('night')]);
  });
});
