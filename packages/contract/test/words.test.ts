/** What a value must be, and how a call reads as a command. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { z } from 'zod';
import { addressOf, allOperations, commandOf, commandWords, expectedOf, operations, optionName, shellWord } from '../src/index.js';

const must = (schema: z.ZodType, value: unknown) => {
  const [issue] = schema.safeParse(value).error?.issues ?? [];
  return issue && expectedOf(issue);
};

describe('what a value must be', () => {
  it.each([
    [z.string(), 7, 'text'],
    [z.int(), 2.5, 'an integer'],
    [z.boolean(), 'x', 'true or false'],
    [z.array(z.string()), {}, 'a list'],
    [z.strictObject({}), [], 'an object'],
    [z.enum(['ios', 'android']), 'web', 'one of ios, android'],
    [z.string().min(8), 'short', 'at least 8 characters'],
    [z.string().min(1), '', 'at least 1 character'],
    [z.string().max(2), 'long', 'at most 2 characters'],
    [z.array(z.string()).max(1), ['a', 'b'], 'at most 1 item'],
    [z.int().max(5), 7, 'at most 5'],
    [z.uuid(), 'x', 'a UUID'],
    [z.string().regex(/^a/, 'A word that begins with a.'), 'b', 'a word that begins with a'],
    [z.string().refine(() => false, 'RFC 3339.'), 'b', 'RFC 3339'],
  ])('is told in words that go on from “Must be”', (schema, value, words) => expect(must(schema, value)).toBe(words));

  it('never ends with a full stop, for any schema of the API', () => {
    for (const { body, query, params } of allOperations)
      for (const schema of [body, query, params])
        for (const wrong of [undefined, 'x', {}, { name: '', email: 'x', limit: 'x', role: '!', origins: ['x'] }])
          for (const issue of schema?.safeParse(wrong).error?.issues ?? []) expect(expectedOf(issue)).not.toMatch(/\.$/);
  });
});

describe('an option', () => {
  it.each([
    ['packageIdentifier', '--package-identifier'],
    ['name', '--name'],
    ['ttlS', '--ttl-s'],
  ])('for %s is %s', (field, option) => expect(optionName(field)).toBe(option));
});

describe('a word of a shell', () => {
  it('is read back by a shell as it was', () => {
    /** POSIX.1-2017, 2.2.2: what stands in single quotes is itself; outside of them here is only \'. */
    const unquote = (word: string) => word.replace(/'([^']*)'|\\'/g, (whole, inner?: string) => inner ?? (whole === "\\'" ? "'" : ''));
    fc.assert(
      fc.property(fc.string(), (text) => {
        expect(unquote(shellWord(text))).toBe(text);
      }),
    );
  });

  it('is bare where nothing in it is special', () => expect(shellWord('ridge/weather-2.4')).toBe('ridge/weather-2.4'));
  it('is there even when it is empty', () => expect(shellWord('')).toBe("''"));
});

describe('a command', () => {
  const params = { app: 'quillfell-hiker', environment: 'dev' };

  it('says where it works last, and leaves out what is not given', () =>
    expect(commandOf(operations.users.list, { params, query: { limit: 5 } })).toBe(
      'orchard user list --limit 5 --app quillfell-hiker --env dev',
    ));

  it('takes the app as an argument where it is about the app', () =>
    expect(commandOf(operations.apps.remove, { params: { app: 'quillfell-hiker' } })).toBe('orchard app delete quillfell-hiker'));

  it('writes flags, their opposites, lists and objects as options', () => {
    const body = { roles: ['warden', 'hiker'], disabled: false, data: { pace: 'slow' }, name: null };
    expect(commandOf(operations.users.patch, { params: { ...params, user: 'u-1' }, body })).toBe(
      `orchard user change u-1 --roles warden,hiker --no-disabled --data '{"pace":"slow"}' --app quillfell-hiker --env dev`,
    );
  });

  it('takes a whole body as one argument where it has a shape of the team’s own', () =>
    expect(commandOf(operations.managedRecords.create, { params: { ...params, collection: 'huts' }, body: { name: 'Cold Tarn' } })).toBe(
      `orchard record add huts '{"name":"Cold Tarn"}' --app quillfell-hiker --env dev`,
    ));

  it('is not made up for an operation that has none', () =>
    expect(() => commandOf(operations.members.readSession, {})).toThrow('memberSessions.read has no command'));

  it('has one noun and one verb, and is declared in the same words everywhere', () => {
    for (const { command } of allOperations) if (command) expect(commandWords({ command }).words.length).toBeLessThanOrEqual(2);
  });
});

it('a parameter of several segments keeps its slashes in an address, each segment encoded', () =>
  expect(addressOf({ path: '/app/v1/files/{path...}' }, { params: { path: 'huts/cold tarn/ü.jpg' } })).toBe(
    '/app/v1/files/huts/cold%20tarn/%C3%BC.jpg',
  ));
