import { expect, it } from 'vitest';
import type { DeliveryResult } from '../src/messages/notifications/deliveryStore.js';
import { ResultWriter } from '../src/messages/notifications/results.js';

const result = (target: string) => ({ target }) as DeliveryResult;
const failure = (code: string) => Object.assign(new Error(code), { code });

/** A writer whose saves fail as told, in turn, and then succeed. */
function writer(...failures: (Error | null)[]) {
  const saved: string[][] = [];
  const write = new ResultWriter(20, async (results) => {
    const fault = failures.shift();
    if (fault) throw fault;
    saved.push(results.map(({ target }) => target));
  });
  return { write, saved };
}

it('writes together what came within its time, in the order it came, without being asked', async () => {
  const { write, saved } = writer();
  for (const target of ['a', 'b', 'c']) write.add(result(target));
  expect(saved).toEqual([]);
  await new Promise((resolve) => setTimeout(resolve, 80));
  expect(saved).toEqual([['a', 'b', 'c']]);
});

it.each(['ER_LOCK_DEADLOCK', 'ECONNREFUSED'])('writes again what %s has ended, so that nobody is sent it twice', async (code) => {
  const { write, saved } = writer(failure(code), failure(code));
  write.add(result('a'));
  await write.drained();
  expect(saved).toEqual([['a']]);
});

it('tells at the end what kept a result from being written', async () => {
  const { write } = writer(failure('ER_BAD_FIELD_ERROR'));
  write.add(result('a'));
  await expect(write.drained()).rejects.toThrow('ER_BAD_FIELD_ERROR');
});

it('makes those who send wait when too much is to be written', async () => {
  let go = () => {};
  const open = new Promise<void>((resolve) => {
    go = resolve;
  });
  const write = new ResultWriter(20, () => open);
  let asked: Promise<void> | null = null;
  for (let i = 0; i < 10_000 && !asked; i++) asked = write.add(result(String(i)));
  expect(asked).not.toBeNull();
  go();
  await asked;
  await write.drained();
});
