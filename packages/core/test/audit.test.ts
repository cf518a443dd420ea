/** What an audit entry keeps of a change, and the text of its MAC. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { type AuditText, chainedText, differenceOf, type JsonObject, withheld } from '../src/index.js';

const document = fc.dictionary(fc.constantFrom('name', 'title', 'roles', 'rules', 'keep'), fc.jsonValue());

describe('the difference of two documents', () => {
  it('is none for the same document', () => {
    fc.assert(
      fc.property(document, (one) => {
        expect(differenceOf(one, structuredClone(one))).toBeNull();
      }),
    );
  });

  it('leads from the one to the other, and names nothing else', () => {
    fc.assert(
      fc.property(document, document, (before, after) => {
        const difference = differenceOf(before, after);
        if (!difference) {
          expect(after).toEqual(before);
          return;
        }
        const [from, to] = [difference.before as JsonObject, difference.after as JsonObject];
        for (const name of new Set([...Object.keys(from), ...Object.keys(to)]))
          expect(JSON.stringify(from[name])).not.toBe(JSON.stringify(to[name]));
        const kept = Object.fromEntries(Object.entries(before).filter(([name]) => !Object.hasOwn(from, name)));
        expect({ ...kept, ...to }).toEqual(after);
      }),
    );
  });

  it.each([
    [null, { name: 'dev' }],
    [{ name: 'dev' }, null],
  ])('of something new or deleted is all of it', (before, after) => {
    expect(differenceOf(before, after)).toEqual({ before, after });
  });
});

it('a personal value gives way to its fingerprint, and nothing to nothing', () => {
  const user = { id: '0190', email: 'runa@hikers.example', phone: null, roles: ['hiker'] };
  expect(withheld(user, ['email', 'phone', 'name'], (text) => `print of ${text.length}`)).toEqual({
    id: '0190',
    email: { withheld: 'print of 21' },
    phone: null,
    roles: ['hiker'],
  });
});

describe('the text of an entry', () => {
  const part = fc.option(fc.string({ maxLength: 12 }), { nil: null });
  const entry = fc.record({
    number: fc.nat(),
    id: fc.string(),
    at: fc.string(),
    actor: fc.string(),
    address: part,
    request: part,
    app: part,
    environment: part,
    action: fc.string(),
    kind: fc.string(),
    subject: fc.string(),
    outcome: fc.string(),
    before: part,
    after: part,
  }) as fc.Arbitrary<AuditText>;

  it('differs for entries that differ, wherever the border of two parts lies', () => {
    fc.assert(
      fc.property(entry, entry, fc.string(), (one, other, mac) => {
        const same = JSON.stringify(one) === JSON.stringify(other);
        expect(chainedText('installation', one, mac) === chainedText('installation', other, mac)).toBe(same);
      }),
    );
  });

  it('differs by database and by the entry before', () => {
    fc.assert(
      fc.property(entry, (one) => {
        expect(chainedText('dev', one, 'a')).not.toBe(chainedText('live', one, 'a'));
        expect(chainedText('dev', one, 'a')).not.toBe(chainedText('dev', one, 'b'));
      }),
    );
  });
});
