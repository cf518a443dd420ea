/** Saved reports, and digests by mail: what they say, who gets them, and whose rights bound them. */
import { createHttpClient, type HttpClient, type NewDigest, operations, type Role } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { digestReaders } from '../src/operations/reports/systemTables.js';
import { eventually, makeApp, memberClient, OWNER, startTestService, type TestApp, type TestService, mailSettings } from './support.js';

const PASSWORD = 'larch-and-lantern';
let test: TestService;
let app: TestApp;
let warden: TestApp;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'), mailSettings);
  app = await makeApp(test, 'quillfell-hiker');
  warden = await makeApp(test, 'quillfell-warden');
  for (const name of ['Larch Hut', 'Tarn Hut']) await test.app('POST', '/data/huts', { key: app.dev.serverKey, body: { name, bunks: 12 } });
  await test.app('GET', '/data/huts?filter=nowhere%20%3D%201', { key: app.dev.serverKey });
  await eventually(async () => ((await usage()).total.calls >= 3 ? true : null));
});
afterAll(() => test.stop());

const usage = () => test.owner.call(operations.telemetry.usage, { params: app.dev.params, query: {} });
const save = (body: object, client = test.owner) => client.call(operations.reports.save, { params: app.dev.params, body: body as never });
const read = (report: string, client = test.owner) =>
  client.call(operations.reports.read, { params: { ...app.dev.params, report }, query: {} });
const mailsOf = (address: string) => test.simulators.mail.mailsOf(address);

async function joined(name: string, role: Role, apps = [app.name]): Promise<{ id: string; email: string; client: HttpClient }> {
  const email = `${name}@quillfell.example`;
  const roles = apps.map((one) => ({ app: one, role }));
  const { id } = await test.owner.call(operations.members.add, { body: { email, name, password: PASSWORD, roles } });
  return { id, email, client: await memberClient(test.address, { email, password: PASSWORD }) };
}

const week = (environments: [string, string][], readers: NewDigest['readers'] = []) => ({
  body: {
    name: 'Week',
    every: 'week' as const,
    environments: environments.map(([name, environment]) => ({ app: name, environment })),
    readers,
  },
});
/** Lets a digest be due now. */
async function makeDue(): Promise<void> {
  const { database, digests, now } = test.service.parts;
  await database.orm.update(digestReaders).set({ nextAt: new Date(now() - 1000) });
  await digests.queueDue();
}

describe('a report', () => {
  it('of records keeps its filter and columns, and shows what is there when it is read', async () => {
    const { id } = await save({
      name: 'Large huts',
      source: 'records',
      collection: 'huts',
      filter: 'bunks > 10',
      columns: ['name', 'bunks'],
      period: 'day',
    });
    const { document } = await read(id);
    expect(document.blocks).toMatchObject([
      {
        kind: 'table',
        title: 'Records of huts',
        columns: [
          { name: 'name', type: 'text' },
          { name: 'bunks', label: 'Bunks', type: 'number' },
        ],
        isCut: false,
      },
    ]);
    await test.app('POST', '/data/huts', { key: app.dev.serverKey, body: { name: '=HYPERLINK("x")', bunks: 20 } });
    const { document: later } = await read(id);
    expect(later.blocks[0]).toMatchObject({ rows: expect.arrayContaining([['=HYPERLINK("x")', 20]]) });
    const file = await test.owner.call(operations.reports.file, { params: { ...app.dev.params, report: id }, query: {} });
    // A cell that begins like a formula would run in a spreadsheet.
    expect(file).toContain(`"'=HYPERLINK(""x"")",20`);
  });

  it('of use has figures, two charts and the routes with the collection in them', async () => {
    const { id } = await save({ name: 'Use', source: 'use', period: 'day' });
    const { document } = await read(id);
    expect(document.blocks.map(({ kind }) => kind)).toEqual(['figures', 'chart', 'chart', 'table']);
    expect(JSON.stringify(document.blocks.at(-1))).toContain('POST /app/v1/data/huts');
  });

  it('of a summary says what was refused, with the problem by its title', async () => {
    const { id } = await save({ name: 'Summary', source: 'summary', period: 'day' });
    const { document } = await read(id);
    expect(document.blocks.map(({ kind }) => kind)).toContain('care');
    expect(JSON.stringify(document.blocks)).toContain('GET /app/v1/data/{collection}');
  });

  it('of each other list can be saved and read', async () => {
    for (const source of ['requests', 'log', 'errors', 'incidents', 'users', 'devices', 'notifications', 'problems', 'condition']) {
      await save({ name: source, source });
      const { document } = await read(source);
      expect(document.blocks.length, source).toBeGreaterThan(0);
    }
  });

  it('keeps a question about people, and refuses one that is none', async () => {
    const steps = [{ event: 'hut_opened' }, { event: 'booking_sent' }];
    for (const [source, question, kinds] of [
      ['funnel', { steps }, ['table', 'chart']],
      ['events', { group: ['event'] }, ['chart', 'table']],
      ['visits', {}, ['figures', 'chart']],
      ['returns', { step: 'day' }, ['table']],
    ] as const) {
      await save({ name: source, source, question, period: 'week' });
      expect((await read(source)).document.blocks.map(({ kind }) => kind)).toEqual(kinds);
    }
    await expect(save({ name: 'none', source: 'funnel', question: { steps: [] } })).rejects.toMatchObject({
      extras: { fields: [{ path: 'body.question.steps' }] },
    });
    await expect(save({ name: 'none', source: 'use', question: { steps } })).rejects.toMatchObject({
      extras: { fields: [{ path: 'body.question' }] },
    });
  });

  it('under a name that is there replaces that one', async () => {
    const first = await save({ name: 'Again', source: 'use' });
    const second = await save({ name: 'Again', source: 'requests', filter: 'status >= 400' });
    expect(second.id).toBe(first.id);
    const { items } = await test.owner.call(operations.reports.list, { params: app.dev.params });
    expect(items.filter(({ name }) => name === 'Again')).toMatchObject([{ source: 'requests', filter: 'status >= 400' }]);
  });

  it.each([
    ['a filter that cannot be read', { source: 'requests', filter: 'status >' }, 'malformed-filter'],
    ['a field that is not there', { source: 'requests', filter: 'colour = 1' }, 'malformed-filter'],
    ['records of no collection', { source: 'records' }, 'invalid-input'],
    ['a collection where none belongs', { source: 'use', collection: 'huts' }, 'invalid-input'],
    ['a source that is not there', { source: 'moons' }, 'invalid-input'],
  ])('with %s is refused, and nothing is saved', async (_, settings, problem) => {
    await expect(save({ name: 'Wrong', ...settings })).rejects.toMatchObject({ problem });
    await expect(read('Wrong')).rejects.toMatchObject({ problem: 'not-found' });
  });

  it('is read by viewers, and saved by developers', async () => {
    const { client } = await joined('per', 'viewer');
    await expect(save({ name: 'Mine', source: 'use' }, client)).rejects.toMatchObject({ problem: 'role-insufficient' });
    expect((await read('Use', client)).report.name).toBe('Use');
  });
});

describe('a digest', () => {
  it('comes by mail with what needs care, charts as pictures and tables as CSV', async () => {
    const { client, email } = await joined('ilse', 'maintainer');
    const { id: report } = await save({ name: 'Huts', source: 'records', collection: 'huts', columns: ['name'] });
    const input = week([[app.name, 'dev']]);
    input.body.environments = [{ ...input.body.environments[0], reports: [report] } as never];
    await client.call(operations.digests.add, input);
    await makeDue();
    await expect.poll(() => mailsOf(email).length).toBe(1);
    const [mail] = mailsOf(email);
    expect(mail?.subject).toMatch(/^Week, \d/);
    expect(mail?.text).toContain('quillfell-hiker/dev: Summary');
    expect(mail?.text).toContain('quillfell-hiker/dev: Huts');
    const files = mail?.files ?? [];
    expect(files.filter(({ type }) => type === 'image/png').map(({ bytes }) => bytes > 5_000)).toEqual([true, true]);
    expect(files.map(({ name }) => name)).toContain('quillfell-hiker-dev-huts-records-of-huts.csv');
    const { items } = await client.call(operations.digests.list, {});
    expect(items[0]?.readers[0]).toMatchObject({ lastFailure: null, confirmed: true });
    expect(Date.parse(items[0]?.readers[0]?.nextAt ?? '')).toBeGreaterThan(Date.now());
    // The next check finds nothing due.
    await test.service.parts.digests.queueDue();
    expect(mailsOf(email)).toHaveLength(1);
  });

  it('can be seen before, and sent to oneself now', async () => {
    const { client, email } = await joined('jonas', 'viewer');
    const { id } = await client.call(operations.digests.add, week([[app.name, 'dev']]));
    const preview = await client.call(operations.digests.preview, { params: { digest: id } });
    expect(preview.html).toContain('src="data:image/png;base64,iVBOR');
    expect(await client.call(operations.digests.send, { params: { digest: id } })).toEqual({ to: email });
    expect(mailsOf(email)).toHaveLength(1);
  });

  it('goes to an address only after it was confirmed there, and ends by the link in it', async () => {
    const address = 'board@quillfell.example';
    const anyone = createHttpClient({ address: test.address });
    const { id } = await test.owner.call(operations.digests.add, week([[app.name, 'dev']], [{ address, timeZone: 'Europe/Oslo' }]));
    await makeDue();
    await expect.poll(() => mailsOf(OWNER.email).length).toBeGreaterThan(0);
    expect(mailsOf(address).map(({ subject }) => subject)).toEqual(['Confirm that you want Week']);
    await anyone.call(operations.digests.confirm, { body: { token: tokenIn(mailsOf(address)[0]?.text) } });
    await makeDue();
    await expect.poll(() => mailsOf(address).length).toBe(2);
    const mail = mailsOf(address)[1];
    expect(mail?.text).toContain('times in Europe/Oslo');
    await anyone.call(operations.digests.end, { body: { token: tokenIn(mail?.text) } });
    const { readers } = await test.owner.call(operations.digests.read, { params: { digest: id } });
    expect(readers.map((reader) => reader.address)).toEqual([null]);
    await expect(anyone.call(operations.digests.end, { body: { token: tokenIn(mail?.text) } })).rejects.toMatchObject({
      problem: 'link-refused',
    });
  });

  it('is bounded by the rights of its reader at that moment', async () => {
    const { id, client, email } = await joined('adaeze', 'viewer', [app.name, warden.name]);
    const places: [string, string][] = [
      [app.name, 'dev'],
      [warden.name, 'dev'],
    ];
    const digest = await client.call(operations.digests.add, week(places));
    await test.owner.call(operations.members.patch, {
      params: { member: id },
      body: { roles: [{ app: warden.name, role: null }] },
    });
    await client.call(operations.digests.send, { params: { digest: digest.id } });
    const [mail] = mailsOf(email);
    expect(mail?.text).toContain('1 environment is left out');
    expect(`${mail?.text}${mail?.html}`).not.toContain(warden.name);
    await test.owner.call(operations.members.patch, { params: { member: id }, body: { roles: [{ app: app.name, role: null }] } });
    await makeDue();
    await expect
      .poll(async () => (await client.call(operations.digests.read, { params: { digest: digest.id } })).readers[0]?.lastFailure)
      .toBe('Nothing was sent: the reader has no role in any of its environments any more.');
    expect(mailsOf(email)).toHaveLength(1);
  });

  it('goes to others only from a maintainer, and is nobody else’s to see', async () => {
    const { client } = await joined('runa', 'developer');
    const others = client.call(operations.digests.add, week([[app.name, 'dev']], [{ address: 'press@quillfell.example' }]));
    await expect(others).rejects.toMatchObject({ problem: 'role-insufficient' });
    expect(mailsOf('press@quillfell.example')).toEqual([]);
    const elsewhere = client.call(operations.digests.add, week([[warden.name, 'dev']]));
    await expect(elsewhere).rejects.toMatchObject({ problem: 'not-found' });
    const { id } = await client.call(operations.digests.add, week([[app.name, 'dev']]));
    const { client: other } = await joined('tove', 'developer');
    await expect(other.call(operations.digests.read, { params: { digest: id } })).rejects.toMatchObject({ problem: 'not-found' });
  });

  it('that the mail server refuses is tried again, and the reader’s row says why', async () => {
    const { client, email } = await joined('sigrid', 'viewer');
    const { id } = await client.call(operations.digests.add, week([[app.name, 'dev']]));
    await test.service.parts.database.orm.update(digestReaders).set({ nextAt: null });
    test.simulators.mail.faults.set({ mode: 'refuse', status: 550, count: 1 });
    const { nextAt } = (await client.call(operations.digests.read, { params: { digest: id } })).readers[0] as { nextAt: string | null };
    expect(nextAt).toBeNull();
    await makeDueOf(id);
    await expect
      .poll(async () => (await client.call(operations.digests.read, { params: { digest: id } })).readers[0]?.lastFailure)
      .toContain(`did not accept the mail to ${email}`);
    await expect.poll(() => mailsOf(email).length, { timeout: 30_000 }).toBe(1);
  });
});

async function makeDueOf(digestId: string): Promise<void> {
  const { database, digests, now } = test.service.parts;
  const { eq } = await import('drizzle-orm');
  await database.orm
    .update(digestReaders)
    .set({ nextAt: new Date(now() - 1000) })
    .where(eq(digestReaders.digestId, digestId));
  await digests.queueDue();
}

const tokenIn = (text: string | undefined): string => /token=([\w-]+)/.exec(text ?? '')?.[1] as string;
