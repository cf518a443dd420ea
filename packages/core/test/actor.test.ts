import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { ACTOR_KINDS, type Actor, readActor, THE_SERVICE, writeActor } from '../src/index.js';

describe('an actor', () => {
  it('is read as it was written', () => {
    const actor = fc.oneof(
      fc.constant(THE_SERVICE),
      fc.record({
        kind: fc.constantFrom(...ACTOR_KINDS.filter((kind) => kind !== 'service')),
        id: fc.string({ minLength: 1 }),
      }) as fc.Arbitrary<Actor>,
    );
    fc.assert(
      fc.property(actor, (one) => {
        expect(readActor(writeActor(one))).toEqual(one);
      }),
    );
  });

  it.each([
    ['member:mira@quillfell.example', { kind: 'member', id: 'mira@quillfell.example' }],
    ['mira@quillfell.example', { kind: 'member', id: 'mira@quillfell.example' }],
    ['key:weather-office/nightly', { kind: 'server', id: 'weather-office/nightly' }],
    ['server key nightly run of weather-office', { kind: 'server', id: 'weather-office/nightly run' }],
    ['client key first of hiker-ios', { kind: 'client', id: 'hiker-ios' }],
    ['user 01a20000-0000-7000-8000-000000000001', { kind: 'user', id: '01a20000-0000-7000-8000-000000000001' }],
    ['schema', THE_SERVICE],
    ['nobody', THE_SERVICE],
    ['', THE_SERVICE],
  ])('that an earlier version stored as “%s” is understood', (text, actor) => expect(readActor(text)).toEqual(actor));
});
