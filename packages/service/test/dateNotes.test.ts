/** Notes on dates: written by the team, listed with who wrote them, and taken off again. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { makeApp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
});
afterAll(() => test.stop());
const list = async () => (await test.owner.call(operations.dateNotes.list, { params: app.dev.params })).items;
const add = (at: string, text: string) => test.owner.call(operations.dateNotes.add, { params: app.dev.params, body: { at, text } });

it('stand on a date or a time, latest first, in the environment they were written in', async () => {
  await add('2026-05-14', 'iOS 2.6 in the store');
  await add('2026-06-02T10:30:00.000Z', 'Storm');
  expect(await list()).toMatchObject([
    { at: '2026-06-02T10:30:00.000Z', text: 'Storm', by: { kind: 'member', name: 'Mira Quill' } },
    { at: '2026-05-14T00:00:00.000Z', text: 'iOS 2.6 in the store' },
  ]);
  expect((await test.owner.call(operations.dateNotes.list, { params: app.live.params })).items).toEqual([]);
});

it('are taken off, once', async () => {
  const { id } = await add('2026-06-03', 'Wrong');
  const params = { ...app.dev.params, note: id };
  await test.owner.call(operations.dateNotes.remove, { params });
  await expect(test.owner.call(operations.dateNotes.remove, { params })).rejects.toMatchObject({ problem: 'not-found' });
});

it.each([['soon'], ['2026-02-30'], ['']])('on %s, which is no date, are refused', async (at) => {
  await expect(add(at, 'x')).rejects.toMatchObject({ problem: 'invalid-input' });
});
