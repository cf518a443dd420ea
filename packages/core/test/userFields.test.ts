/** Fields of users: whatever the team calls them, only what somebody has themselves counts. */
import fc from 'fast-check';
import { expect, it } from 'vitest';
import { checkUserData, ruleFields, shownData, type UserFields } from '../src/accounts/index.js';

const INHERITED = ['constructor', 'toString', 'valueOf', 'hasOwnProperty'];
const text = (changes: object = {}) => ({ type: 'text', seenBy: 'user', changedBy: 'user', ...changes }) as UserFields[string];
const fieldsOf = (names: readonly string[], changes?: object): UserFields => Object.fromEntries(names.map((name) => [name, text(changes)]));
const data = fc.dictionary(fc.constantFrom('club', ...INHERITED), fc.oneof(fc.string({ maxLength: 8 }), fc.integer()), {
  noNullPrototype: true,
});

it('rules see values of the right type, and nothing that every object has', () => {
  fc.assert(
    fc.property(data, (has) => {
      const seen = ruleFields(fieldsOf(['club', ...INHERITED]), has);
      const texts = Object.entries(has).filter(([, value]) => typeof value === 'string');
      expect(seen).toEqual(Object.fromEntries(texts));
    }),
  );
});

it('a required field is missing from who does not send it, also one that every object has', () => {
  fc.assert(
    fc.property(data, (sent) => {
      const { problems } = checkUserData(fieldsOf(INHERITED, { required: true }), sent, { by: 'user', whole: true });
      const wrong = INHERITED.filter((name) => typeof (Object.hasOwn(sent, name) ? sent[name] : undefined) !== 'string');
      expect([...new Set(problems.map(({ path }) => path))].sort()).toEqual([...wrong].sort());
    }),
  );
});

it('what only the team sees is not shown, and the rest is', () => {
  fc.assert(
    fc.property(data, (has) => {
      const { club: _hidden, ...rest } = has;
      expect(shownData(fieldsOf(['club'], { seenBy: 'servers' }), has)).toEqual(rest);
    }),
  );
});
