/** Sheets of the team's own: saved reports side by side, in the order and width the team gives them. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { makeApp, startTestService, type TestApp, type TestService } from './support.js';

const { sheets, reports } = operations;
let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
});
afterAll(() => test.stop());

const params = () => app.dev.params;
const save = async (name: string) => (await test.owner.call(reports.save, { params: params(), body: { name, source: 'summary' } })).id;
const add = (name: string, items: { report: string; width?: 1 | 2 }[] = []) =>
  test.owner.call(sheets.add, { params: params(), body: { name, items } });

it('keep reports in their order, and show what was deleted as gone until it is taken off', async () => {
  const [use, calls] = [await save('Use'), await save('Calls')];
  const { id } = await add('Monday', [{ report: calls, width: 2 }, { report: use }]);
  const read = () => test.owner.call(sheets.read, { params: { ...params(), sheet: 'Monday' } });
  expect(await read()).toMatchObject({
    id,
    by: { name: 'Mira Quill' },
    items: [
      { report: calls, name: 'Calls', width: 2 },
      { report: use, name: 'Use', width: 1 },
    ],
  });
  await test.owner.call(reports.remove, { params: { ...params(), report: calls } });
  expect((await read()).items[0]).toEqual({ report: calls, name: null, width: 2 });
  const change = (items: object[]) =>
    test.owner.call(sheets.change, { params: { ...params(), sheet: id }, body: { name: 'Board', items: items as never } });
  await change([{ report: use }, { report: calls }]);
  await change([{ report: use, width: 2 }]);
  expect((await test.owner.call(sheets.list, { params: params() })).items).toMatchObject([
    { name: 'Board', items: [{ report: use, width: 2 }] },
  ]);
});

it('are refused with a report that is none, with the name of another, and for viewers', async () => {
  const { id } = await add('Tuesday');
  await add('Wednesday');
  await expect(add('Thursday', [{ report: 'none' }])).rejects.toMatchObject({
    problem: 'invalid-input',
    extras: { fields: [{ path: 'body.items.0.report' }] },
  });
  await expect(add('Tuesday')).rejects.toMatchObject({ problem: 'already-exists' });
  const rename = test.owner.call(sheets.change, { params: { ...params(), sheet: id }, body: { name: 'Wednesday' } });
  await expect(rename).rejects.toMatchObject({ problem: 'already-exists' });
  expect((await test.owner.call(sheets.list, { params: params() })).items.map(({ name }) => name)).not.toContain('Thursday');
});

it('are removed, once, and leave their reports', async () => {
  const report = await save('Kept');
  const { id } = await add('Friday', [{ report }]);
  const at = { params: { ...params(), sheet: id } };
  await test.owner.call(sheets.remove, at);
  await expect(test.owner.call(sheets.remove, at)).rejects.toMatchObject({ problem: 'not-found' });
  expect((await test.owner.call(reports.list, { params: params() })).items.map(({ id: one }) => one)).toContain(report);
});
