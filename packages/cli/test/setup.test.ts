/** Apps, environments, clients, collections and views from the terminal, from their making to their end. */
import { rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openTerminal, signIn } from './terminal.js';

let test: TestService;
let app: TestApp;
const terminal = openTerminal();
const { home, orchard, json } = terminal;
/** What a command prints, when it goes well. */
async function out(...args: string[]): Promise<string> {
  const outcome = await orchard(args);
  expect(outcome).toMatchObject({ code: 0 });
  return outcome.out;
}

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  await signIn(terminal, test.address, 'quillfell-hiker/dev');
});
afterAll(async () => {
  await test.stop();
  rmSync(home, { recursive: true, force: true });
});

describe('an app and its environments', () => {
  it('are listed with mode, role and server; one app alone, or all', async () => {
    await out('app', 'add', 'quillfell-warden', '--title', 'Quillfell Warden');
    expect(await out('app', 'list')).toMatch(/quillfell-warden +Quillfell Warden +dev, live/);
    expect(await out('env', 'list')).toMatch(/^app +name +mode +role +server +createdAt/);
    expect((await json('env', 'list')).items).toHaveLength(4);
    expect((await json('env', 'list', '--app', 'quillfell-warden')).items).toHaveLength(2);
  });

  it('are closed and opened to new collections, and to wider numbers', async () => {
    expect(await json('env', 'mode', 'closed')).toMatchObject({ name: 'dev', mode: 'closed' });
    expect(await orchard(['record', 'add', 'unheard', '{"a":1}'])).toMatchObject({ code: 5, err: expect.stringContaining('unheard') });
    expect(await json('env', 'mode', 'open')).toMatchObject({ mode: 'open' });
    expect(await json('env', 'widening', 'off')).toMatchObject({ widening: false });
    expect(await orchard(['env', 'mode', 'ajar'])).toMatchObject({
      code: 2,
      err: expect.stringContaining('Allowed choices are open, closed'),
    });
  });

  it('end when that is meant, and not before', async () => {
    await out('env', 'add', 'stage', '--app', 'quillfell-warden');
    const stage = ['env', 'delete', '--app', 'quillfell-warden', '--env', 'stage'];
    expect(await orchard(stage)).toMatchObject({ code: 2, err: expect.stringContaining('with all its data: nothing was done.') });
    expect(await orchard([...stage, '--yes'])).toMatchObject({ code: 0, err: 'Deleted quillfell-warden/stage.\n' });
    expect(await orchard(['app', 'delete', 'quillfell-warden', '--yes'])).toMatchObject({ code: 0, err: 'Deleted quillfell-warden.\n' });
    expect(await orchard(['app', 'delete', 'quillfell-warden', '--yes'])).toMatchObject({ code: 5 });
  });
});

describe('a client', () => {
  it('is changed, allows one more origin, and shows which were blocked', async () => {
    await out('client', 'add', 'hiker-web', '--kind', 'web', '--origins', 'https://hiker.quillfell.example');
    expect(await out('client', 'set', 'hiker-ios', '--package-identifier', 'example.quillfell.hiker')).toMatch(
      /packageIdentifier +example\.quillfell\.hiker/,
    );
    const { keys } = (await json('client', 'list')).items.find(({ name }: { name: string }) => name === 'hiker-web');
    const blocked = await fetch(`${test.address}/app/v1/data/huts`, {
      headers: { 'orchard-key': keys[0].key, origin: 'https://elsewhere.example' },
    });
    expect(blocked.status).toBe(403);
    expect(await out('client', 'blocked')).toMatch(/https:\/\/elsewhere\.example +hiker-web +1 /);
    expect(await out('client', 'allow', 'hiker-web', 'https://elsewhere.example')).toContain('https://elsewhere.example');
    expect(await out('client', 'list')).toMatch(/hiker-web +web +https:\/\/hiker\.quillfell\.example https:\/\/elsewhere\.example +1/);
    expect(await orchard(['client', 'allow', 'hiker-web', 'elsewhere'])).toMatchObject({
      code: 4,
      err: expect.stringContaining('Must be a web origin'),
    });
  });
});

describe('a collection', () => {
  beforeAll(async () => {
    await out('collection', 'add', 'huts', '--fields', 'name:text,bunks:integer,region:choice(north|south)');
    for (const [id, bunks] of [
      ['cold-tarn', 24],
      ['dunmere', 12],
    ] as const)
      await out('record', 'put', 'huts', id, JSON.stringify({ name: id, bunks, region: 'north' }));
  });

  it('is shown with its fields, indexes and rules', async () => {
    const shown = await out('collection', 'show', 'huts');
    expect(shown).toMatch(/region +choice: north \| south/);
    expect(shown).toMatch(/records +2/);
    expect((await json('collection', 'show', 'huts')).fields).toHaveLength(3);
  });

  it('has its rules set, and says for whom they hold', async () => {
    expect(await out('collection', 'rules', 'huts', '--read', 'everyone', '--update', 'bunks > 20')).toMatch(/read +TRUE/);
    const { id } = await signUp(test, app.dev.clientKey, 'runa');
    expect(await out('collection', 'try', 'huts', 'update', 'cold-tarn', '--user', id)).toMatch(/^allowed {2}by bunks > 20/);
    expect(await out('collection', 'try', 'huts', 'update', 'dunmere', '--user', id)).toMatch(/^refused[\s\S]*← decides/);
    expect(await orchard(['collection', 'rules', 'huts'])).toMatchObject({ code: 2, err: expect.stringContaining('No rule is given.') });
    expect(await orchard(['collection', 'rules', 'huts', '--read', 'bnks > 2'])).toMatchObject({
      code: 4,
      err: expect.stringContaining('did you mean `bunks`?'),
    });
  });

  it('gets a field, loses it, and has it back with its values', async () => {
    await out('collection', 'add-field', 'huts', 'open', '{"type":"boolean","default":true}');
    await out('record', 'change', 'huts', 'dunmere', '{"open":false}');
    expect(await out('collection', 'drop-field', 'huts', 'open', '--preview')).toMatch(/drop open/);
    await out('collection', 'drop-field', 'huts', 'open');
    const { dropped } = await json('collection', 'show', 'huts');
    expect(await out('collection', 'show', 'huts')).toContain(`can be restored until`);
    await out('collection', 'recover', 'huts', dropped[0].column);
    expect(await json('record', 'show', 'huts', 'dunmere')).toMatchObject({ open: false });
  });

  it('is brought to a JSON Schema, after a look at what that changes', async () => {
    const schema = await json('collection', 'schema', 'huts');
    schema.properties.altitudeM = { type: 'integer', minimum: 0 };
    const file = join(home, 'huts.json');
    writeFileSync(file, JSON.stringify(schema));
    expect(await out('collection', 'schema', 'huts', '--set', file, '--preview')).toMatch(/add altitudeM integer/);
    await out('collection', 'schema', 'huts', '--set', file);
    expect((await json('collection', 'show', 'huts')).fields.map(({ name }: { name: string }) => name)).toContain('altitudeM');
    expect((await orchard(['collection', 'schema', 'huts', '--set', file])).err).toContain('The fields match already.');
  });

  it('gets an index over fields in their order, and loses it', async () => {
    expect(await out('collection', 'add-index', 'huts', 'region,bunks')).toMatch(/fields +region, bunks/);
    expect(await orchard(['collection', 'drop-index', 'huts', 'by_region_bunks'])).toMatchObject({
      code: 0,
      err: 'Dropped the index by_region_bunks.\n',
    });
    expect(await orchard(['collection', 'drop-index', 'huts', 'by_region_bunks'])).toMatchObject({ code: 5 });
  });

  it('keeps views for the team', async () => {
    await out('collection', 'save-view', 'huts', 'Large huts', '--filter', 'bunks > 20', '--sort', '-bunks');
    expect(await out('collection', 'views', 'huts')).toMatch(/Large huts +bunks > 20 +Mira Quill/);
    const [{ id }] = (await json('collection', 'views', 'huts')).items;
    expect((await orchard(['collection', 'forget-view', 'huts', id])).err).toContain(`Deleted the view ${id}.`);
    expect((await json('collection', 'views', 'huts')).items).toEqual([]);
  });

  it('takes many actions in one call, all or nothing, or each on its own', async () => {
    const actions = {
      actions: [
        { action: 'create', record: { id: 'new-hut', bunks: 3 } },
        { action: 'delete', id: 'not-there' },
      ],
    };
    const whole = await orchard(['record', 'batch', 'huts', JSON.stringify(actions)]);
    expect(whole).toMatchObject({ code: 5, err: expect.stringContaining('Nothing of the batch was stored.') });
    expect(await orchard(['record', 'show', 'huts', 'new-hut'])).toMatchObject({ code: 5 });
    expect(await out('record', 'batch', 'huts', JSON.stringify(actions), '--apart')).toMatch(/1 +201 +new-hut +1[\s\S]*2 +404/);
  });

  it('is deleted with its records when that is meant', async () => {
    expect(await orchard(['collection', 'delete', 'huts'])).toMatchObject({ code: 2, err: expect.stringContaining('--yes') });
    expect((await orchard(['collection', 'delete', 'huts', '--yes'])).err).toBe('Deleted huts.\n');
    expect(await orchard(['collection', 'show', 'huts'])).toMatchObject({ code: 5 });
  });
});

it('a topic is shown with its followers', async () => {
  await test.owner.call(operations.topics.put, { params: { ...app.dev.params, topic: 'ridge-weather' }, body: { title: 'Ridge weather' } });
  expect(await out('topic', 'show', 'ridge-weather')).toMatch(/title +Ridge weather[\s\S]*devices +0/);
});

it('usage is asked for over a period of its own', async () => {
  const from = new Date(Date.now() - 3_600_000).toISOString();
  expect(await out('usage', '--from', from)).toMatch(/^route +calls +4xx +5xx +p50 ms/);
  expect((await json('usage', '--from', from, '--client', 'nobody')).total.calls).toBe(0);
  expect(await orchard(['usage', '--from', 'yesterday'])).toMatchObject({
    code: 2,
    err: expect.stringContaining('`yesterday` is not a time.'),
  });
});

it('signing out ends the session there and here', async () => {
  expect(await orchard(['sign-out'])).toMatchObject({ code: 0, err: 'Signed out.\n' });
  expect(await orchard(['app', 'list'])).toMatchObject({ code: 3 });
});
