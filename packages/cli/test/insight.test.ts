/** Events, questions about people, reports and digests from the terminal. */
import { randomUUID } from 'node:crypto';
import { rmSync } from 'node:fs';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, OWNER, startTestService, type TestApp, type TestService, mailSettings } from '../../service/test/support.js';
import { openTerminal, signIn } from './terminal.js';

const DAY_MS = 86_400_000;
const MINUTE_MS = 60_000;
const { home, orchard, json } = openTerminal();
let test: TestService;
let app: TestApp;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'), mailSettings);
  app = await makeApp(test, 'quillfell-hiker');
  await signIn({ orchard }, test.address, 'quillfell-hiker/dev');
  for (let i = 0; i < 6; i++)
    await hike(`phone-000${i}`, i < 4 ? ['open', 'search', 'book'] : ['open', 'leave'], i % 2 ? '2.5.0' : '2.6.0');
});
afterAll(async () => {
  await test.stop();
  rmSync(home, { recursive: true, force: true });
});

async function hike(device: string, names: string[], appVersion: string): Promise<void> {
  const registration = { platform: 'ios', appVersion, os: 'iOS 19', locale: 'nb-NO', timeZone: 'Europe/Oslo', permission: 'granted' };
  const { body } = await test.app('PUT', `/devices/${device}`, { key: app.dev.clientKey, body: registration });
  const at = Date.now() - DAY_MS;
  await test.app('POST', '/events', {
    key: app.dev.clientKey,
    headers: { 'orchard-device': device, 'orchard-device-secret': body.secret },
    body: {
      sentAt: new Date().toISOString(),
      events: names.map((name, i) => ({
        id: randomUUID(),
        name,
        at: new Date(at + i * MINUTE_MS).toISOString(),
        properties: { nights: i + 1 },
      })),
    },
  });
}

describe('events', () => {
  it('are listed by name, planned, and taken out of the plan again', async () => {
    expect((await orchard(['event', 'list'])).out).toMatch(/^book +nights:number/m);
    await orchard([
      'event',
      'plan',
      'book',
      '{"description": "A booking was taken", "owner": "Jonas", "properties": {"nights": {"type": "number"}}}',
    ]);
    expect((await json('event', 'list')).items.find(({ name }: { name: string }) => name === 'book')).toMatchObject({
      planned: true,
      owner: 'Jonas',
    });
    expect(await orchard(['event', 'unplan', 'book', '--yes'])).toMatchObject({ code: 0 });
    expect(await orchard(['event', 'unplan', 'book', '--yes'])).toMatchObject({
      code: 5,
      err: expect.stringContaining('is not in the event plan'),
    });
  });

  it('of the plan are written as types for an app', async () => {
    await orchard(['event', 'plan', 'book', '{"properties": {"nights": {"type": "number"}}}']);
    const { out } = await orchard(['event', 'types']);
    expect(out).toContain('export type Events = {\n  book: {\n    nights?: number;\n  };\n};');
    await orchard(['event', 'unplan', 'book', '--yes']);
  });

  it('that came last, and those that were refused, are seen', async () => {
    await test.app('POST', '/events', { key: app.dev.clientKey, body: { sentAt: new Date().toISOString(), events: [{ name: 'open' }] } });
    expect((await orchard(['event', 'refusals'])).out).toMatch(/device-unregistered +open +hiker-ios +1/);
    expect((await orchard(['event', 'latest', '--device', 'phone-0005'])).out).toMatch(/leave .*phone-0005/);
  });
});

describe('a question', () => {
  const STEPS = '[{"event": "open"}, {"event": "search"}, {"event": "book"}]';

  it('about counts has a chart of bars and a table, and as JSON all of it', async () => {
    const { out } = await orchard(['insight', 'events', '--group', 'version', '--measure', 'people', '--event', 'open']);
    expect(out).toContain('2.5.0: 3');
    expect(out).toMatch(/[▁▂▃▄▅▆▇█]/);
    expect((await json('insight', 'events', '--event', 'book', '--measure', 'sum:nights')).series[0].total).toBe(12);
  });

  it('about a funnel shows shares and how long it takes, and why the others stop', async () => {
    const { out } = await orchard(['insight', 'funnel', '--steps', STEPS]);
    expect(out).toMatch(/all +open +6 +100.0 %/);
    expect(out).toMatch(/all +search +4 +66.7 % +66.7 % +60.0 s +█+/);
    const why = await orchard(['insight', 'why', '--steps', STEPS, '--step', '0']);
    expect(why.out).toMatch(/^2 stopped there, 4 went on\.[\s\S]*leave +2/);
  });

  it('about arrivals, visits, returns and paths is answered', async () => {
    expect((await orchard(['insight', 'arrivals'])).out).toMatch(/^6 new people, 6 active/);
    expect((await orchard(['insight', 'visits'])).out).toMatch(/all +6 +6 +1 /);
    expect((await orchard(['insight', 'returns', '--step', 'day'])).out).toMatch(/ 6 +100.0 %/);
    expect((await orchard(['insight', 'paths', '--event', 'open'])).out).toMatch(/6 visits\n +66.7 % {2}search\n +66.7 % {2}book/);
  });

  it('is asked of several environments, each on a line of its own', async () => {
    const places = ['--environments', 'quillfell-hiker/dev,quillfell-hiker/live'];
    const { out } = await orchard(['insight', 'across', 'funnel', ...places, '--body', `{"steps": ${STEPS}}`]);
    expect(out).toMatch(/quillfell-hiker\/dev +open 6 → search 4 → book 4/);
    expect(out).toMatch(/quillfell-hiker\/live +open 0 → search 0 → book 0/);
    expect((await orchard(['insight', 'across', 'visits', '--environments', 'quillfell-hiker/dev'])).out).toMatch(/6 visits of 6 people/);
    const missing = await orchard(['insight', 'across', 'visits', '--environments', 'quillfell-hiker/none']);
    expect(missing).toMatchObject({ code: 5, err: expect.stringContaining('quillfell-hiker/none') });
  });

  it('shows who is behind its figures, and the calls before people stopped', async () => {
    expect((await orchard(['insight', 'behind', '--event', 'leave'])).out).toMatch(/^2 people\n[\s\S]*phone-000[45]/);
    const why = await orchard(['insight', 'why', '--steps', STEPS, '--step', '0']);
    expect(why.out).toContain('None of 2 people had a refused, failed or slow call just before.');
  });

  it.each([
    [['insight', 'events', '--filter', 'nigths > 1'], 'nights'],
    [['insight', 'events', '--measure', 'sum'], 'sum:nights'],
    [['insight', 'funnel', '--steps', 'open,book'], 'That is not JSON'],
    [['insight', 'funnel'], '--steps'],
  ])('%j is refused with what to do', async (args, words) => {
    const { code, err } = await orchard(args);
    expect([code === 0, err]).toEqual([false, expect.stringContaining(words)]);
  });
});

describe('a report', () => {
  it('is saved, listed, read by its name, written as CSV and removed', async () => {
    await orchard(['report', 'save', 'People', '--source', 'people', '--period', 'four-weeks']);
    expect((await orchard(['report', 'list'])).out).toMatch(/People +people +four-weeks/);
    const { out } = await orchard(['report', 'show', 'People']);
    expect(out).toMatch(/Active people +6/);
    expect(out).toContain('What people did');
    expect((await orchard(['report', 'file', 'People'])).out).toContain('event,count,before\r\n');
    expect(await orchard(['report', 'remove', 'People', '--yes'])).toMatchObject({ code: 0 });
    expect(await orchard(['report', 'show', 'People'])).toMatchObject({ code: 5 });
  });

  it('stands on a sheet beside others', async () => {
    const { id } = await json('report', 'save', 'Visits', '--source', 'visits');
    expect(await orchard(['sheet', 'add', 'Board', '--items', JSON.stringify([{ report: id, width: 2 }])])).toMatchObject({ code: 0 });
    expect((await orchard(['sheet', 'list'])).out).toMatch(/Board +Visits +Mira Quill/);
    expect((await orchard(['sheet', 'show', 'Board'])).out).toMatch(/Visits +2/);
    expect(await orchard(['sheet', 'remove', 'Board', '--yes'])).toMatchObject({ code: 0 });
    expect((await orchard(['report', 'show', 'Visits'])).code).toBe(0);
  });

  it('goes by mail as a digest', async () => {
    const { id } = await json(
      'digest',
      'add',
      JSON.stringify({ name: 'Week', every: 'week', environments: [{ app: app.name, environment: 'dev' }] }),
    );
    expect((await orchard(['digest', 'list'])).out).toMatch(/Week +week +07:30 +quillfell-hiker\/dev +1/);
    expect((await orchard(['digest', 'preview', id])).out).toMatch(/^Week, [\s\S]*Attached: .*\.csv/);
    expect(await orchard(['digest', 'send', id])).toMatchObject({ code: 0, err: `Sent to ${OWNER.email}.\n` });
    expect(test.simulators.mail.mailsOf(OWNER.email)).toHaveLength(1);
    expect(await orchard(['digest', 'remove', id, '--yes'])).toMatchObject({ code: 0 });
  });
});
