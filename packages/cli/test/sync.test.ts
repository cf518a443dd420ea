/** The schema as types, checked against the schema of now; and devices that sync, from the command line. */
import { readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, OWNER, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openTerminal } from './terminal.js';

let test: TestService;
let app: TestApp;
const { home, orchard, spawned } = openTerminal();

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  const fields = [
    { name: 'name', type: 'text', required: true },
    { name: 'state', type: 'choice', choices: ['open', 'closed'] },
    { name: 'hidden', type: 'text', hidden: true },
  ];
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: { name: 'huts', fields, rules: { read: 'TRUE' } } as never,
  });
  await test.owner.call(operations.managedRecords.put, {
    params: { ...app.dev.params, collection: 'huts', id: 'fellgate' },
    body: { name: 'Fellgate' },
  });
  await spawned(['sign-in', test.address, '--email', OWNER.email, '--password-stdin'], `${OWNER.password}\n`);
  await orchard(['use', 'quillfell-hiker/dev']);
});
afterAll(async () => {
  await test.stop();
  rmSync(home, { recursive: true, force: true });
});
const change = (body: object) =>
  test.owner.call(operations.collections.change, { params: { ...app.dev.params, collection: 'huts' }, query: {}, body: body as never });

describe('orchard types', () => {
  const file = join(home, 'schema.ts');

  it('writes collections with their fields, well-known records and events', async () => {
    expect(await orchard(['types', '--out', file])).toMatchObject({ code: 0, err: `Wrote ${file}.\n` });
    const text = readFileSync(file, 'utf8');
    expect(text).toContain('huts: RecordOf<{\n    name: string;\n    state: "open" | "closed" | null;\n  }>;');
    expect(text).toContain('huts: "fellgate";');
    expect(text).toContain('export type Events');
    expect(text).not.toContain('hidden');
    expect((await orchard(['types'])).out).toBe(text);
  });

  it('says in the CI of an app what it expects and is gone, and minds nothing that is new', async () => {
    await change({ change: 'add', name: 'bunks', field: { type: 'integer' } });
    expect(await orchard(['types', '--check', file])).toMatchObject({ code: 0, err: `${file} fits the schema.\n` });
    await change({ change: 'drop', name: 'state' });
    const gone = await orchard(['types', '--check', file]);
    expect([gone.code, gone.err]).toEqual([1, expect.stringContaining('Your app expects the field `huts.state`, which is gone.')]);
    expect(await orchard(['types', '--check', join(home, 'none.ts')])).toMatchObject({
      code: 2,
      err: expect.stringContaining('orchard types --out'),
    });
    expect(await orchard(['types', '--watch'])).toMatchObject({ code: 2, err: expect.stringContaining('--watch needs --out') });
  });
});

describe('orchard sync', () => {
  it('lists devices that sync, and shows one', async () => {
    const { token } = await signUp(test, app.dev.clientKey, 'runa');
    const registration = { platform: 'ios', appVersion: '3.2', os: 'iOS 19', locale: 'en', timeZone: 'UTC', permission: 'unasked' };
    const { body } = await test.app('PUT', '/devices/ridge-phone', { key: app.dev.clientKey, token, body: registration });
    const headers = { 'orchard-device': 'ridge-phone', 'orchard-device-secret': body.secret };
    await test.app('POST', '/sync/pull', {
      key: app.dev.clientKey,
      token,
      headers,
      body: { scopes: [{ collection: 'huts' }], pending: 2, conflicts: 0 },
    });
    expect((await orchard(['sync', 'list'])).out).toMatch(/ridge-phone\s+\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\s+\d+\s+2\s+0/);
    expect((await orchard(['sync', 'show', 'ridge-phone', '--json'])).out).toContain('"pending": 2');
    expect(await orchard(['sync', 'show', 'never-synced'])).toMatchObject({ code: 5, err: expect.stringContaining('has not synced') });
  });
});
