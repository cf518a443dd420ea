/** The audit: what an entry says, who sees it, and that nobody changes one unnoticed. */
import { type AuditEntry, type AuditHead, createHttpClient, type HttpClient, operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { logHeads } from '../src/setup/audit/verifying.js';
import { makeApp, memberClient, signUp, startTestService, type TestApp, type TestService } from './support.js';

const APP = 'quillfell-hiker';
const PASSWORD = 'larch-and-lantern';
const own = operations.audit;
let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, APP);
});
afterAll(() => test.stop());

const entries = async (filter?: string, by: HttpClient = test.owner): Promise<AuditEntry[]> =>
  (await by.call(own.list, { query: filter ? { filter } : {} })).items;
const latest = async (kind: string): Promise<AuditEntry> => (await entries(`kind = '${kind}'`))[0] as AuditEntry;
async function join(name: string, roles: { app: string; environment?: string; role: 'viewer' | 'maintainer' }[]) {
  const email = `${name}@quillfell.example`;
  const { id } = await test.owner.call(operations.members.add, { body: { email, name, password: PASSWORD, roles } });
  return { id, email, client: await memberClient(test.address, { email, password: PASSWORD }) };
}
const put = (client: HttpClient, topic: string, title?: string, params = app.dev.params) =>
  client.call(operations.topics.put, { params: { ...params, topic }, body: title ? { title } : {} });
const environmentDb = async (name: 'dev' | 'live') => (await test.service.parts.directory.environment(APP, name)).db;

describe('an entry', () => {
  it('says who changed what from where, before and after, with the request', async () => {
    await put(test.owner, 'ridge-weather', 'Ridge weather');
    await put(test.owner, 'ridge-weather', 'Weather on the ridge');
    const entry = await latest('topic');
    expect(entry).toMatchObject({
      actor: { kind: 'member', name: 'Mira Quill' },
      app: APP,
      environment: 'dev',
      action: 'topics.put',
      subject: 'ridge-weather',
      outcome: 'done',
      before: { title: 'Ridge weather' },
      after: { title: 'Weather on the ridge' },
      address: '127.0.0.1',
    });
    const request = { ...app.dev.params, request: entry.request as string };
    await expect
      .poll(() => test.owner.call(operations.telemetry.installationRequest, { params: request }).catch((error) => error.problem))
      .toMatchObject({ id: entry.request });
  });

  it('is not written for a change that changes nothing, nor for one that is refused', async () => {
    const before = (await entries()).length;
    await put(test.owner, 'ridge-weather', 'Weather on the ridge');
    await expect(test.owner.call(operations.topics.remove, { params: { ...app.dev.params, topic: 'nothing' } })).rejects.toMatchObject({
      problem: 'not-found',
    });
    expect((await entries()).length).toBe(before);
  });

  it('stands and falls with its change', async () => {
    const { audit, database, directory } = test.service.parts;
    const environment = await directory.environment(APP, 'dev');
    const origin = { actor: { kind: 'service', id: null } as const, address: null, request: null, environment };
    const before = (await entries()).length;
    const broken = audit.watch(origin, { kind: 'topic', action: 'test', subject: 'storm', after: () => ({}) }, async () => {
      await environment.db.run(
        `INSERT INTO ${environment.db.collection('_topics')} (name, createdBy, createdAt) VALUES ('storm', 'service', UTC_TIMESTAMP(3))`,
      );
      throw new Error('halfway');
    });
    await expect(broken).rejects.toThrow('halfway');
    expect((await entries()).length).toBe(before);
    const names = await database.rows<{ name: string }>(`SELECT name FROM ${environment.db.collection('_topics')}`);
    expect(names.map(({ name }) => name)).not.toContain('storm');
  });

  it('of a change of tables says what was begun, and what became of it', async () => {
    const fields = [{ name: 'kilos', type: 'integer' as const }];
    await test.owner.call(operations.collections.create, { params: app.dev.params, body: { name: 'loads', fields } });
    const [done, begun] = await entries("kind = 'collection'");
    expect(begun).toMatchObject({ outcome: 'begun', before: null, after: { name: 'loads', fields } });
    expect(done).toMatchObject({ outcome: 'done', subject: 'loads', before: null, after: { name: 'loads' } });
    const change = { params: { ...app.dev.params, collection: 'loads' }, query: {}, body: { change: 'drop', name: 'weight' } as const };
    await expect(test.owner.call(operations.collections.change, change)).rejects.toThrow();
    expect(await latest('collection')).toMatchObject({ outcome: 'failed', after: { problem: expect.any(String) } });
  });

  it('holds no secret, and of people only a reference', async () => {
    const key = await test.owner.call(operations.clients.createKey, {
      params: { ...app.dev.params, client: 'office' },
      body: { name: 'nightly', scopes: ['records:read'] },
    });
    expect(await latest('key')).toMatchObject({ subject: `office/${key.id}`, after: { name: 'nightly', scopes: ['records:read'] } });
    const { id } = await signUp(test, app.dev.clientKey, 'runa');
    await test.owner.call(operations.users.patch, {
      params: { ...app.dev.params, user: id },
      body: { name: 'Runa Fell', roles: ['hiker'] },
    });
    const changed = await latest('user');
    expect(changed).toMatchObject({
      subject: id,
      before: { roles: [] },
      after: { roles: ['hiker'], name: { withheld: expect.any(String) } },
    });
    const optOut = { ...app.dev.params, way: 'sms' as const, address: '+15550177001' };
    await test.owner.call(operations.sms.putOptOut, { params: optOut, body: { state: 'out', because: 'asked by letter' } });
    const whole = JSON.stringify(await entries());
    for (const secret of [key.key as string, 'Runa Fell', 'runa@hikers.example', '5550177001']) expect(whole).not.toContain(secret);
  });

  it('of a record names its version; what was written stands in its history', async () => {
    const params = { ...app.dev.params, collection: 'loads' };
    const { id } = await test.owner.call(operations.managedRecords.create, { params, body: { kilos: 12 } });
    await test.owner.call(operations.managedRecords.patch, { params: { ...params, id: id as string }, body: { kilos: 13 } });
    const [patched, created] = await entries("kind = 'record'");
    expect(created).toMatchObject({ action: 'managedRecords.create', subject: `loads/${id}`, after: { version: 1 } });
    expect(patched).toMatchObject({ subject: `loads/${id}`, after: { version: 2 } });
  });

  it('stays when the member is removed, and names nobody then', async () => {
    const wren = await join('wren', [{ app: APP, role: 'maintainer' }]);
    await put(wren.client, 'bridge');
    expect((await entries("subject = 'bridge'"))[0]).toMatchObject({ actor: { name: 'wren' } });
    await test.owner.call(operations.members.remove, { params: { member: wren.id } });
    await expect
      .poll(async () => (await entries("subject = 'bridge'"))[0])
      .toMatchObject({ actor: { kind: 'member', id: wren.id, name: 'a former member' } });
    const kept = JSON.stringify([await test.service.parts.database.rows('SELECT * FROM _audit')]);
    expect(kept).not.toContain(wren.email);
    expect((await test.owner.call(own.verify, { body: {} })).ok).toBe(true);
  });

  it('of a sign-in says from where', async () => {
    const { id } = await join('dario', [{ app: APP, role: 'viewer' }]);
    expect((await entries(`kind = 'session' AND actor = '${id}'`))[0]).toMatchObject({
      action: 'memberSessions.start',
      address: '127.0.0.1',
      after: { kind: 'token' },
    });
  });
});

it('of the service says what a write to an open environment brought', async () => {
  await test.app('POST', '/data/snow', { key: app.dev.serverKey, body: { depthCm: 12 } });
  await expect
    .poll(async () => (await entries("actorKind = 'service'"))[0])
    .toMatchObject({
      actor: { kind: 'service', name: 'the service' },
      subject: 'snow',
      summary: 'Add what a write to an open environment brought',
      after: { fields: { depthCm: 'integer' }, widened: [] },
    });
});

describe('the list', () => {
  it('goes over all databases in order of time, page by page', async () => {
    for (let i = 0; i < 4; i++) {
      await put(test.owner, `topic-${i}`, undefined, app.dev.params);
      await put(test.owner, `topic-${i}`, undefined, app.live.params);
    }
    const pages: AuditEntry[] = [];
    let cursor: string | undefined;
    do {
      const query: { filter: string; limit: number; cursor?: string } = { filter: "subject LIKE 'topic-%'", limit: 3 };
      const page = await test.owner.call(own.list, { query: cursor ? { ...query, cursor } : query });
      pages.push(...page.items);
      cursor = page.next;
    } while (cursor);
    expect(pages.map(({ environment, subject }) => `${environment} ${subject}`)).toEqual(
      [3, 2, 1, 0].flatMap((i) => [`live topic-${i}`, `dev topic-${i}`]),
    );
    const sorted = await test.owner.call(own.list, { query: { filter: "subject LIKE 'topic-%'", sort: 'environment,subject', limit: 5 } });
    expect(sorted.items.map(({ environment, subject }) => `${environment} ${subject}`)).toEqual([
      'dev topic-0',
      'dev topic-1',
      'dev topic-2',
      'dev topic-3',
      'live topic-0',
    ]);
  });

  it('shows maintainers their environments, and others nothing', async () => {
    const siv = await join('siv', [{ app: APP, environment: 'live', role: 'maintainer' }]);
    const seen = await entries(undefined, siv.client);
    expect(new Set(seen.map(({ environment }) => environment))).toEqual(new Set(['live']));
    expect(new Set(seen.map(({ kind }) => kind)), 'keys stand in the database of the installation').toContain('key');
    const jon = await join('jon', [{ app: APP, role: 'viewer' }]);
    await expect(entries(undefined, jon.client)).rejects.toMatchObject({ problem: 'role-insufficient' });
    await expect(siv.client.call(own.verify, { body: {} })).rejects.toMatchObject({ problem: 'role-insufficient' });
    const dev = { app: APP, environment: 'dev' };
    await expect(siv.client.call(own.list, { query: dev })).rejects.toMatchObject({ problem: 'role-insufficient' });
  });

  it('lists what one member or token changed, by name or id', async () => {
    const tove = await join('tove', [{ app: APP, role: 'maintainer' }]);
    await put(tove.client, 'footbridge');
    const by = async (who: string) => (await test.owner.call(own.list, { query: { by: who } })).items;
    for (const who of ['Tove', tove.id]) {
      const found = await by(who);
      expect(found.map(({ subject }) => subject)).toContain('footbridge');
      expect(new Set(found.map(({ actor }) => actor.id))).toEqual(new Set([tove.id]));
    }
    await expect(by('toove')).rejects.toMatchObject({ problem: 'not-found', detail: expect.stringContaining('named toove') });
    expect(await by('01a21569-ffff-7000-8000-000000000000')).toEqual([]);
  });

  it('says which field a filter does not have', async () => {
    await expect(entries("who = 'mira'")).rejects.toMatchObject({ problem: 'malformed-filter' });
  });

  it('is exported whole, oldest first, as lines of JSON and as CSV', async () => {
    const query = { filter: "kind = 'topic'", ...app.dev.params };
    const text = async (format: 'ndjson' | 'csv') => (await test.owner.open(own.export, { query: { ...query, format } })).text();
    const lines = (await text('ndjson'))
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line) as AuditEntry);
    expect(lines[0]).toMatchObject({ subject: 'ridge-weather', after: { title: 'Ridge weather' } });
    expect(lines.map(({ at }) => at)).toEqual(lines.map(({ at }) => at).sort());
    const [head, first, ...rest] = (await text('csv')).trim().split('\r\n');
    expect(head).toMatch(/^id,at,actorKind,actor,actorName,app,environment,action,kind,subject,outcome,before,after,/);
    expect(first).toContain('ridge-weather');
    expect(rest.length + 1).toBe(lines.length);
  });
});

describe('the chain', () => {
  const faults = async (heads: AuditHead[] = []) => {
    const { ok, items } = await test.owner.call(own.verify, {
      body: { heads: heads.map(({ database, number, mac }) => ({ database, number, mac })) },
    });
    return { ok, faults: items.flatMap((chain) => chain.faults.map(({ fault }) => `${chain.environment ?? 'installation'} ${fault}`)) };
  };
  /** Changes a chain by SQL, checks, and puts it back. */
  async function tamper(name: 'dev' | 'live', sql: (audit: string, head: string) => string[], heads: AuditHead[] = []) {
    const db = await environmentDb(name);
    const [audit, head] = [db.collection('_audit'), db.collection('_auditHead')];
    const kept = [
      `CREATE TABLE ${db.collection('keptAudit')} AS SELECT * FROM ${audit}`,
      `CREATE TABLE ${db.collection('keptHead')} AS SELECT * FROM ${head}`,
    ];
    for (const one of [...kept, ...sql(audit, head)]) await db.run(one);
    const found = await faults(heads);
    for (const [table, copy] of [
      [audit, 'keptAudit'],
      [head, 'keptHead'],
    ] as const) {
      await db.run(`DELETE FROM ${table}`);
      await db.run(`INSERT INTO ${table} SELECT * FROM ${db.collection(copy)}`);
      await db.run(`DROP TABLE ${db.collection(copy)}`);
    }
    return found;
  }

  it('is whole after all of this, in every database, with every head that was noted', async () => {
    const { items: heads } = await test.owner.call(own.heads, {});
    expect(heads.map(({ environment }) => environment)).toEqual([null, 'dev', 'live']);
    await put(test.owner, 'later');
    expect(await faults(heads)).toEqual({ ok: true, faults: [] });
  });

  it.each([
    ['changed', (audit: string) => [`UPDATE ${audit} SET subject = 'other' WHERE number = 2`], ['dev changed']],
    ['given to someone else', (audit: string) => [`UPDATE ${audit} SET actor = 'service' WHERE number = 1`], ['dev changed']],
    ['removed', (audit: string) => [`DELETE FROM ${audit} WHERE number = 2`], ['dev missing']],
    ['removed first of all', (audit: string) => [`DELETE FROM ${audit} WHERE number = 1`], ['dev missing']],
    ['cut off at the end', (audit: string) => [`DELETE FROM ${audit} ORDER BY number DESC LIMIT 1`], ['dev cut-off']],
    ['cut off, all of them', (audit: string) => [`DELETE FROM ${audit}`], ['dev cut-off']],
    [
      'cut off with the head set back',
      (audit: string, head: string) => [
        `DELETE FROM ${audit} ORDER BY number DESC LIMIT 1`,
        `UPDATE ${head} SET number = number - 1, mac = (SELECT mac FROM ${audit} ORDER BY number DESC LIMIT 1)`,
      ],
      ['dev head-changed'],
    ],
    [
      'added by hand',
      (audit: string) => [
        `INSERT INTO ${audit} SELECT number + 1, 'forged', at, actor, address, request, app, environment, action, kind, subject, outcome, \`before\`, \`after\`, mac FROM ${audit} ORDER BY number DESC LIMIT 1`,
      ],
      ['dev changed', 'dev head-changed'],
    ],
  ])('notices an entry that was %s', async (_, sql, expected) => {
    expect((await tamper('dev', sql)).faults).toEqual(expected);
    expect(await faults()).toEqual({ ok: true, faults: [] });
  });

  it('notices by a noted head that chain and head were set back to an earlier copy', async () => {
    const db = await environmentDb('live');
    const copies = [
      ['_audit', 'early'],
      ['_auditHead', 'earlyHead'],
    ] as const;
    for (const [table, copy] of copies) await db.run(`CREATE TABLE ${db.collection(copy)} AS SELECT * FROM ${db.collection(table)}`);
    await put(test.owner, 'regretted', undefined, app.live.params);
    const { items: heads } = await test.owner.call(own.heads, {});
    const back = await tamper(
      'live',
      (audit, head) => [
        `DELETE FROM ${audit} WHERE number > (SELECT MAX(number) FROM ${db.collection('early')})`,
        `REPLACE INTO ${head} SELECT * FROM ${db.collection('earlyHead')}`,
      ],
      heads,
    );
    expect(back.faults).toEqual(['live cut-off']);
    for (const [, copy] of copies) await db.run(`DROP TABLE ${db.collection(copy)}`);
  });

  it('has its head logged, so that it can be compared later', async () => {
    const logged: { auditHead: AuditHead }[] = [];
    const log = { info: (about: { auditHead: AuditHead }) => void logged.push(about) };
    await logHeads({ ...test.service.parts, log } as never);
    const { items } = await test.owner.call(own.heads, {});
    expect(logged.map(({ auditHead }) => auditHead)).toEqual(
      items.filter(({ number }) => number > 0).map(({ database, number, mac }) => ({ database, number, mac })),
    );
    expect(await faults(logged.map(({ auditHead }) => auditHead))).toEqual({ ok: true, faults: [] });
  });

  it('grows by one at a time, however many change at once', async () => {
    const before = (await entries()).length;
    await Promise.all(Array.from({ length: 24 }, (_, i) => put(test.owner, `at-once-${i}`)));
    expect((await entries("subject LIKE 'at-once-%'")).length).toBe(24);
    expect((await entries()).length).toBe(Math.min(50, before + 24));
    expect(await faults()).toEqual({ ok: true, faults: [] });
  });
});

it('an app calls as before: what its users do has no entry', async () => {
  const before = (await entries()).length;
  const { token } = await signUp(test, app.dev.clientKey, 'bran');
  await test.app('POST', '/data/loads', { key: app.dev.clientKey, token, body: { kilos: 3 } });
  const anyone = createHttpClient({ address: test.address });
  await expect(anyone.call(own.list, {})).rejects.toMatchObject({ problem: 'member-sign-in-needed' });
  expect((await entries()).length).toBe(before);
});
