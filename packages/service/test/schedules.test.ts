/** Functions that run by the clock: when they are due, what is made up for, and that one instance runs them. */
import { type FunctionRun, operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { dueTimes, nextOf, timesBetween } from '../src/data/functions/clock.js';
import { SCHEDULE_JOB } from '../src/data/functions/schedules.js';
import type { Environment } from '../src/platform/call.js';
import { eventually, makeApp, startTestService, type TestApp, type TestService } from './support.js';

const at = (text: string) => new Date(text);
const iso = (times: readonly Date[]) => times.map((time) => time.toISOString().slice(0, 16));

describe('the clock of a schedule', () => {
  it.each([
    // The night in which Oslo loses the hour from two to three, and the one in which it has it twice.
    [
      '30 2 * * *',
      'Europe/Oslo',
      '2027-03-26T12:00:00Z',
      '2027-03-29T12:00:00Z',
      ['2027-03-27T01:30', '2027-03-28T01:30', '2027-03-29T00:30'],
    ],
    ['30 2 * * *', 'Europe/Oslo', '2027-10-30T12:00:00Z', '2027-11-01T12:00:00Z', ['2027-10-31T00:30', '2027-11-01T01:30']],
    ['0 6 * * 1-5', 'Europe/Oslo', '2027-03-26T12:00:00Z', '2027-03-30T12:00:00Z', ['2027-03-29T04:00', '2027-03-30T04:00']],
    ['0 0 29 2 *', 'UTC', '2027-01-01T00:00:00Z', '2029-01-01T00:00:00Z', ['2028-02-29T00:00']],
  ])('%s in %s, across a change to summer time and back', (clock, zone, from, to, wanted) => {
    expect(iso(timesBetween({ clock, zone }, at(from), at(to)))).toEqual(wanted);
  });

  it.each([
    ['once', ['2027-01-04T06:00']],
    ['each', ['2027-01-01T06:00', '2027-01-02T06:00', '2027-01-03T06:00', '2027-01-04T06:00']],
    ['skip', []],
  ])('runs %s for what was missed while no instance was up', (missed, wanted) => {
    const row = { clock: '0 6 * * *', zone: 'UTC', missed };
    expect(iso(dueTimes(row, at('2027-01-01T06:00:00Z'), at('2027-01-04T20:00:00Z')))).toEqual(wanted);
    expect(iso(dueTimes(row, at('2027-01-01T06:00:00Z'), at('2027-01-01T06:00:03Z')))).toEqual(['2027-01-01T06:00']);
  });

  it('has a next time in UTC, where no zone is named', () => {
    expect(nextOf({ clock: '*/15 * * * *', zone: null }, at('2027-01-01T10:07:00Z'))?.toISOString()).toBe('2027-01-01T10:15:00.000Z');
  });
});

describe('a schedule', () => {
  let test: TestService;
  let app: TestApp;
  let dev: Environment;
  const own = operations.functions;
  beforeAll(async () => {
    test = await startTestService(inject('databaseUrl'));
    app = await makeApp(test, 'quillfell-hiker');
    dev = await test.service.parts.directory.environment('quillfell-hiker', 'dev');
    await test.owner.call(operations.collections.create, {
      params: app.dev.params,
      body: { name: 'counts', fields: [{ name: 'due', type: 'text' }] },
    });
  });
  afterAll(() => test.stop());

  const of = (name: string) => ({ params: { ...app.dev.params, name } });
  const put = (name: string, source: string, more: object = {}) =>
    test.owner.call(own.put, { ...of(name), body: { kind: 'schedule', clock: '0 6 * * *', source, ...more } as never });
  const runs = async (name: string): Promise<FunctionRun[]> => (await test.owner.call(own.runs, of(name))).items;
  /** As if its time had come. */
  const due = async (name: string, since: number) => {
    await test.service.parts.jobs.add(dev.db, dev, SCHEDULE_JOB, name, new Date(Date.now() - since));
    await test.service.parts.jobs.wake(dev);
  };

  it('runs when it is due, for the time it was due at, and says when it runs next', async () => {
    const shown = await put(
      'tally',
      `
      const handler: Schedule = async ({ due, key, attempt }, { records, log }) => {
        await records('counts').create({ due });
        log.info(key.length, attempt);
      };
      export default handler;`,
      { zone: 'Europe/Oslo' },
    );
    expect(shown).toMatchObject({ kind: 'schedule', clock: '0 6 * * *', zone: 'Europe/Oslo', missed: 'once', rights: 'own', lastAt: null });
    expect(shown.nextAt).toMatch(/T0[45]:00:00\.000Z$/);
    await due('tally', 1_000);
    const run = await eventually(async () => (await runs('tally'))[0]);
    expect(run).toMatchObject({ outcome: 'answered', cause: expect.stringMatching(/^due 20/), attempt: 1, log: [{ text: '36 1' }] });
    const { items } = await test.owner.call(operations.managedRecords.list, { params: { ...app.dev.params, collection: 'counts' } });
    expect(items.map(({ due: time }) => `due ${time}`)).toEqual([run.cause]);
    const after = await test.owner.call(own.read, of('tally'));
    expect([after.nextAt, after.lastOutcome, after.waiting]).toEqual([shown.nextAt, 'answered', 0]);
  });

  it('is retried when it fails, and its next time is kept', async () => {
    await put('shaky', `export default (({ attempt }) => { if (attempt === 1) throw new Error('storm'); }) as Schedule;`);
    await due('shaky', 1_000);
    const second = await eventually(async () => (await runs('shaky')).find(({ attempt }) => attempt === 2));
    expect(second.outcome).toBe('answered');
    expect((await test.owner.call(own.read, of('shaky'))).nextAt).toMatch(/T06:00:00\.000Z$/);
  });

  it('does not run while no version is in force, nor once it is deleted', async () => {
    await put('quiet', `export default (() => undefined) as Schedule;`);
    await test.owner.call(own.use, { ...of('quiet'), body: { version: 0 } });
    expect((await test.owner.call(own.read, of('quiet'))).nextAt).toBeNull();
    await due('quiet', 1_000);
    await put('marker', `export default (() => undefined) as Schedule;`);
    await due('marker', 1_000);
    await eventually(async () => (await runs('marker'))[0]);
    expect(await runs('quiet')).toEqual([]);
  });

  it.each([
    ['every day', {}, 'body.clock'],
    ['61 * * * *', {}, 'body.clock'],
    ['* * * * * *', {}, 'body.clock'],
    ['0 0 31 2 *', {}, 'body.clock'],
    ['0 6 * * *', { zone: 'Europe/Skarn' }, 'body.zone'],
  ])('is refused with a clock like %s', async (clock, more, path) => {
    const problem = await put('wrong', 'export default () => undefined;', { clock, ...more }).catch((error) => error);
    expect([problem.problem, problem.extras.fields[0].path]).toEqual(['invalid-input', path]);
  });
});
