import { appendFileSync, existsSync, readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { afterEach, beforeEach, expect, it } from 'vitest';
import { ResultJournal } from '../src/notifications/journal.js';
import type { DeliveryResult } from '../src/notifications/deliveries.js';
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
});

it('knows after a kill what was sent and not yet written, with its times', () => {
  const before = new ResultJournal(directory);
  const [written, lost] = [result('written'), result('lost')];
  before.note('env', 'n1', written);
  before.note('env', 'n1', lost);
  before.written([written]);
  // No close: the process is killed here.
  const after = new ResultJournal(directory);
  expect(after.left.map((entry) => entry.result.target)).toContain('lost');
  expect(after.left.at(-1)).toEqual({ environmentId: 'env', notification: 'n1', result: lost });
});

it('passes over a line that the kill cut short', () => {
  const before = new ResultJournal(directory);
  before.note('env', 'n1', result('whole'));
  appendFileSync(path(), '{"environmentId":"env","notif');
  expect(new ResultJournal(directory).left.map((entry) => entry.result.target)).toEqual(['whole']);
});

it('keeps what the last one left until it is written, also over a second kill', () => {
  new ResultJournal(directory).note('env', 'n1', result('first'));
  new ResultJournal(directory);
  const third = new ResultJournal(directory);
  expect(third.left).toHaveLength(1);
  third.written([]);
  expect(readFileSync(path(), 'utf8')).toBe('');
});

it('is empty when everything is written, goes on at its beginning, and is gone after an orderly end', () => {
  const journal = new ResultJournal(directory);
  const [one, two] = [result('one'), result('two')];
  journal.note('env', 'n1', one);
  journal.written([one]);
  expect(readFileSync(path(), 'utf8')).toBe('');
  journal.note('env', 'n1', two);
  expect(readFileSync(path(), 'utf8').split('\n')).toHaveLength(2);
  journal.written([two]);
  journal.close();
  expect(existsSync(path())).toBe(false);
});
