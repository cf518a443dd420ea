/** When a database server counts as silent: by statements that wait, and by what it answers when it is asked. */
import { afterEach, beforeEach, expect, it, vi } from 'vitest';
import { ServerSilent, StallWatch } from '../src/platform/database/stalls.js';

let answers: boolean;
let asked: number;
let watch: StallWatch;
const connection = () => ({ stream: { destroy: vi.fn() } });
beforeEach(() => {
  vi.useFakeTimers();
  [answers, asked] = [true, 0];
  watch = new StallWatch(async () => {
    asked++;
    return answers;
  });
});
afterEach(() => {
  watch.close();
  vi.useRealTimers();
});
const seconds = (count: number) => vi.advanceTimersByTimeAsync(count * 1000);

it('nobody is asked while statements end in time', async () => {
  for (let i = 0; i < 20; i++) {
    const on = connection();
    watch.begin(on);
    await seconds(1);
    watch.end(on);
  }
  expect(asked).toBe(0);
});

it('a long statement on a server that answers is left alone, and the server is asked seldom', async () => {
  const on = connection();
  watch.begin(on);
  await seconds(30);
  expect(on.stream.destroy).not.toHaveBeenCalled();
  expect(asked).toBeGreaterThan(3);
  expect(asked).toBeLessThan(9);
});

it('one missed answer is not enough; after two, what waits fails, and what comes fails at once until it answers again', async () => {
  const [first, second] = [connection(), connection()];
  watch.begin(first);
  watch.begin(second);
  answers = false;
  await seconds(5);
  expect([asked, first.stream.destroy.mock.calls.length]).toEqual([1, 0]);
  await seconds(1);
  for (const { stream } of [first, second]) expect(stream.destroy).toHaveBeenCalledWith(expect.any(ServerSilent));
  expect(() => watch.begin(connection())).toThrow(ServerSilent);
  answers = true;
  await seconds(1);
  expect(() => watch.begin(connection())).not.toThrow();
});
