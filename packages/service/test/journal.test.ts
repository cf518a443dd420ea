import { appendFileSync, existsSync, readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { afterEach, beforeEach, expect, it } from 'vitest';
import { ResultJournal } from '../src/messages/notifications/journal.js';
import type { DeliveryResult } from '../src/messages/notifications/deliveryStore.js';
import { scratchDirectory } from './scratch.js';

let directory: string;
beforeEach(() => {
  directory = scratchDirectory('journal');
});
afterEach(() => rmSync(directory, { recursive: true, force: true }));

const path = () => join(directory, 'results.journal');
const result = (target: string): DeliveryResult => ({
  target,
  state: 'accepted',
  reason: null,
  attempts: 1,
  answer: 201,
  said: null,
  messageId: null,
  receiptId: null,
  segments: null,
  nextAttemptAt: null,
  sentAt: new Date('2026-07-01T12:00:00.000Z'),
  receivedAt: null,
});
/** What is noted in one turn of the event loop is in the file when the next one begins. */
const nextTurn = () => new Promise((resolve) => setImmediate(resolve));

it('knows after a kill what was sent and not yet written, with its times', async () => {
  const before = new ResultJournal(directory);
  const [written, lost] = [result('written'), result('lost')];
  before.note('env', 'n1', written, 'heron');
  before.note('env', 'n1', lost, 'heron');
  await nextTurn();
  before.written([written]);
  // No close: the process is killed here.
  const after = new ResultJournal(directory);
  expect(after.left.map((entry) => entry.result.target)).toContain('lost');
  expect(after.left.at(-1)).toEqual({ environmentId: 'env', notification: 'n1', result: lost });
});

it('passes over a line that the kill cut short', async () => {
  const before = new ResultJournal(directory);
  before.note('env', 'n1', result('whole'), null);
  await nextTurn();
  appendFileSync(path(), '["env","n1","cu');
  expect(new ResultJournal(directory).left.map((entry) => entry.result.target)).toEqual(['whole']);
});

it('keeps what the last one left until it is written, also over a second kill', async () => {
  new ResultJournal(directory).note('env', 'n1', result('first'), null);
  await nextTurn();
  new ResultJournal(directory);
  const third = new ResultJournal(directory);
  expect(third.left).toHaveLength(1);
  third.written([]);
  expect(readFileSync(path(), 'utf8')).toBe('');
});

it('is empty when everything is written, goes on at its beginning, and is gone after an orderly end', async () => {
  const journal = new ResultJournal(directory);
  const [one, two] = [result('one'), result('two')];
  journal.note('env', 'n1', one, null);
  journal.written([one]);
  expect(readFileSync(path(), 'utf8')).toBe('');
  journal.note('env', 'n1', two, null);
  await nextTurn();
  expect(readFileSync(path(), 'utf8').split('\n')).toHaveLength(2);
  journal.written([two]);
  journal.close();
  expect(existsSync(path())).toBe(false);
});

it('writes a receipt with the result it is of, as long as nobody writes that', async () => {
  const journal = new ResultJournal(directory);
  const sent = { ...result('+12025550142'), receiptId: '4711' };
  const arrived = (one: DeliveryResult) => {
    one.state = 'arrived';
  };
  journal.note('env', 'n1', sent, 'heron');
  expect(journal.amend('env', 'other', '4711', arrived)).toBe(false);
  expect(journal.amend('env', 'heron', '4711', arrived)).toBe(true);
  await nextTurn();
  expect(new ResultJournal(directory).left.map((entry) => entry.result)).toEqual([{ ...sent, state: 'arrived' }]);
  journal.seal([sent]);
  expect(journal.amend('env', 'heron', '4711', arrived)).toBe(false);
});
