/** Objectives and the condition of environments, from calls to what a member sees. */
import { setTimeout as sleep } from 'node:timers/promises';
import { createHttpClient, type Objective, operations, Problem } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { cellTable } from '../src/operations/telemetry/tables.js';
import { eventually, makeApp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
const MINUTE_MS = 60_000;
const REFUSED: Objective = {
  name: 'refused',
  subject: { of: 'calls' },
  measure: { of: 'refused' },
  windowMs: MINUTE_MS,
  stressed: 0.1,
  failing: 0.5,
  leastCalls: 5,
  leaveOut: ['not-found'],
};
const SLOW: Objective = {
  name: 'slow-huts',
  subject: { of: 'route', method: 'GET', route: '/app/v1/data/{collection}', target: 'huts' },
  measure: { of: 'latency', statistic: 'p95' },
  windowMs: 5 * MINUTE_MS,
  stressed: 10_000,
  failing: 20_000,
  leastCalls: 1,
  leaveOut: [],
};
const LONG: Objective = { ...REFUSED, name: 'month', windowMs: 30 * 1440 * MINUTE_MS, stressed: 0.2, failing: 0.9 };

const conditionOf = async (environment: 'dev' | 'live', client = test.owner) =>
  (await client.call(operations.condition.read, {})).items.find((one) => one.app === app.name && one.environment === environment);
const replace = (items: readonly Objective[], more: object = {}) =>
  test.owner.call(operations.objectives.replace, { params: app.live.params, body: { items: [...items], ...more } });
const current = () => test.owner.call(operations.objectives.read, { params: app.live.params });
const get = (path: string) => test.app('GET', path, { key: app.live.serverKey });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'), { evaluateMs: 1_000 });
  app = await makeApp(test, 'quillfell-hiker');
});
afterAll(() => test.stop());

describe('the objectives of an environment', () => {
  it('are a sensible set at first, looser in dev than in live', async () => {
    const live = await current();
    const dev = await test.owner.call(operations.objectives.read, { params: app.dev.params });
    expect(live).toMatchObject({ version: 1, by: { kind: 'service' } });
    for (const strict of live.items) {
      const loose = dev.items.find(({ name }) => name === strict.name) as Objective;
      const isLower = strict.measure.of === 'within' || strict.measure.of === 'delivered';
      expect(isLower ? loose.failing < strict.failing : loose.failing > strict.failing).toBe(true);
    }
  });

  it('are kept by version, with who and why', async () => {
    const before = await current();
    const after = await replace([REFUSED, SLOW, LONG], { why: 'The board wants fewer refusals', version: before.version });
    expect(after).toMatchObject({ version: before.version + 1, by: { name: 'Mira Quill' }, why: 'The board wants fewer refusals' });
    const { items } = await test.owner.call(operations.objectives.versions, { params: app.live.params });
    expect(items.map(({ version }) => version)).toEqual([after.version, before.version]);
    expect(items[1]?.items).toEqual(before.items);
  });

  it('are not changed by two at once', async () => {
    const { version } = await current();
    await expect(replace([REFUSED], { version: version - 1 })).rejects.toMatchObject({ problem: 'version-conflict' });
    expect((await current()).version).toBe(version);
  });

  it.each<[string, Partial<Objective>, string, string]>([
    ['limits in the wrong order', { stressed: 0.5, failing: 0.1 }, 'body.items.0.failing', 'wrong order'],
    ['a window of 0', { windowMs: 0 }, 'body.items.0.windowMs', '60,000'],
    ['a share above 1', { failing: 5 }, 'body.items.0.failing', 'share from 0 to 1'],
    ['a backlog of calls', { measure: { of: 'backlog' }, stressed: 1, failing: 2 }, 'body.items.0.measure.of', 'Only jobs'],
  ])('cannot have %s', async (_, changes, path, words) => {
    const { version } = await current();
    const refused = await replace([{ ...REFUSED, ...changes }]).catch((error: Problem) => error);
    expect(refused).toBeInstanceOf(Problem);
    const [field] = (refused as Problem).extras.fields ?? [];
    expect(field?.path).toBe(path);
    expect(`${field?.problem} ${field?.expected}`).toContain(words);
    expect((await current()).version).toBe(version);
  });
});

const callsOf = ({ recent }: { recent: { calls: number }[] }): number => recent.reduce((sum, { calls }) => sum + calls, 0);

describe('the condition', () => {
  it('follows from calls, leaves out what is no trouble, and says what broke', async () => {
    await test.owner.call(operations.collections.create, { params: app.live.params, body: { name: 'huts' } });
    // No trouble: a record that is not there.
    for (let i = 0; i < 5; i++) expect((await get('/data/huts/nowhere')).status).toBe(404);
    for (let i = 0; i < 5; i++) expect((await get('/data/huts')).status).toBe(200);
    const well = await eventually(async () => {
      const found = await conditionOf('live');
      return found?.condition === 'thriving' && callsOf(found) === 10 && found;
    });
    expect(well.objectives.find(({ name }) => name === 'refused')).toMatchObject({ condition: 'thriving', value: 0, calls: 10 });
    expect(well.objectives.find(({ name }) => name === 'slow-huts')).toMatchObject({ condition: 'thriving', calls: 5 });

    for (let i = 0; i < 30; i++) expect((await get('/data/huts?filter=nowhere%20%3D%201')).status).toBe(422);
    const failing = await eventually(async () => {
      const found = await conditionOf('live');
      return found?.condition === 'failing' && callsOf(found) === 40 && found;
    });
    expect(failing.objectives.find(({ name }) => name === 'refused')).toMatchObject({ condition: 'failing', value: 0.75, calls: 40 });
    // A promise over a month has a budget, and does not say how it is right now.
    expect(failing.objectives.find(({ name }) => name === 'month')).toMatchObject({
      condition: 'stressed',
      budget: { allowed: 0.2, bad: 30, total: 40, spent: 3.75 },
    });
    const { items } = await test.owner.call(operations.condition.history, {});
    const history = items.find(({ app: of, environment }) => of === app.name && environment === 'live');
    expect(history?.changes.map(({ condition }) => condition)).toEqual(['thriving', 'failing']);
    expect(history?.changes[1]).toMatchObject({ objective: 'refused', value: 0.75 });
    expect(history?.changes[1]?.text).toBe('share refused, all calls: 75 % (failing beyond 50 %)');
  });

  it('of now and of a moment ago agree, and the future has none', async () => {
    const now = await conditionOf('live');
    await sleep(1_500);
    const at = new Date(test.service.parts.now() - 500).toISOString();
    const { items } = await test.owner.call(operations.condition.read, { query: { at } });
    const past = items.find(({ app: of, environment }) => of === app.name && environment === 'live');
    expect(past).toMatchObject({ condition: now?.condition, since: now?.since });
    expect(past && callsOf(past)).toBe(40);
    const later = new Date(test.service.parts.now() + 60_000).toISOString();
    await expect(test.owner.call(operations.condition.read, { query: { at: later } })).rejects.toMatchObject({ status: 422 });
  });

  it('is shown only of environments that the member may see', async () => {
    const { token } = await test.owner.call(operations.tokens.create, {
      body: { name: 'watcher', roles: [{ app: app.name, environment: 'dev', role: 'viewer' }], days: 1 },
    });
    const watcher = createHttpClient({ address: test.address, headers: () => ({ authorization: `Bearer ${token}` }) });
    const { items, installation } = await watcher.call(operations.condition.read, {});
    expect(items.map(({ environment }) => environment)).toEqual(['dev']);
    expect(installation).toBeNull();
    const change = watcher.call(operations.objectives.replace, { params: app.dev.params, body: { items: [] } });
    await expect(change).rejects.toMatchObject({ problem: 'role-insufficient' });
  });

  it('of the installation tells of its database, disk, jobs and certificates', async () => {
    const { installation } = await test.owner.call(operations.condition.read, {});
    expect(installation?.checks.map(({ check }) => check)).toEqual(['database', 'disk', 'jobs', 'certificates']);
  });

  it('can be tried with other limits on what has been', async () => {
    const body = { objective: { ...REFUSED, stressed: 0.8, failing: 0.9 }, days: 1 };
    const trial = await test.owner.call(operations.objectives.trial, { params: app.live.params, body });
    expect(trial.would).toHaveLength(trial.now?.length ?? -1);
    expect(trial.said.map(({ condition }) => condition)).toContain('failing');
  });
});

describe('objectives as a file', () => {
  const read = async () =>
    (
      await fetch(`${test.address}/manage/v1/apps/${app.name}/environments/live/objectives/openslo`, {
        headers: { authorization: `Bearer ${await token()}` },
      })
    ).text();
  const token = async () => {
    const { token } = await createHttpClient({ address: test.address }).call(operations.members.signIn, {
      body: { email: 'mira@quillfell.example', password: 'orchard-in-bloom', as: 'token' },
    });
    return token as string;
  };
  const bring = (yaml: string, apply = false) =>
    test.owner.call(operations.objectives.importSlo, { params: app.live.params, body: { yaml, apply } });

  it('come back as they went, and a change in the file is shown before it is stored', async () => {
    const yaml = await read();
    expect(yaml).toContain('apiVersion: openslo/v1');
    expect(await bring(yaml, true)).toMatchObject({ applied: false, differences: [] });
    const { version } = await current();
    const changed = yaml.replace('value: 10000', 'value: 5000');
    const look = await bring(changed);
    expect(look).toMatchObject({
      applied: false,
      differences: [{ name: 'slow-huts', change: 'changed', before: { stressed: 10_000 }, after: { stressed: 5_000 } }],
      set: { version },
    });
    expect(await bring(changed, true)).toMatchObject({ applied: true, set: { version: version + 1 } });
  });

  it.each([
    ['of another version', 'apiVersion: openslo/v1alpha\nkind: SLO\nmetadata: {name: a}\nspec: {}', 'openslo/v1alpha'],
    ['of another kind', 'apiVersion: openslo/v1\nkind: Dashboard\nmetadata: {name: a}\nspec: {}', 'Dashboard'],
    [
      'of another source',
      'apiVersion: openslo/v1\nkind: SLO\nmetadata: {name: a}\nspec: {indicator: {spec: {thresholdMetric: {metricSource: {type: slate}}}}}',
      'slate',
    ],
    ['that is no YAML', 'a: [', 'no YAML'],
  ])('%s are refused, and say so', async (_, yaml, words) => {
    await expect(bring(yaml, true)).rejects.toMatchObject({ problem: 'invalid-input', detail: expect.stringContaining(words) });
  });
});

it('counts that come late still count', async () => {
  const environment = await test.service.parts.directory.environment(app.name, 'dev');
  const { db } = environment;
  await replaceDev([{ ...REFUSED, windowMs: 5 * MINUTE_MS }]);
  await eventually(async () => (await conditionOf('dev'))?.objectives.length === 1);
  // An instance that could not reach the database for two minutes writes what it counted.
  const at = new Date(Math.floor((test.service.parts.clock.read() - 2 * MINUTE_MS) / 10_000) * 10_000);
  const late = {
    at,
    method: 'GET',
    route: '/app/v1/data/{collection}',
    client: '',
    status: 422,
    problem: 'invalid-input',
    instance: 'late',
    calls: 50,
    sumUs: 50,
    histogram: '1:50',
  };
  await db.orm.insert(db.table(cellTable)).values(late);
  const found = await eventually(async () => {
    const one = (await conditionOf('dev'))?.objectives[0];
    return one && one.calls >= 50 && one;
  });
  expect(found).toMatchObject({ name: 'refused', condition: 'failing' });
});
const replaceDev = (items: Objective[]) => test.owner.call(operations.objectives.replace, { params: app.dev.params, body: { items } });
