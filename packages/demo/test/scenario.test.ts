/** The made-up association: the same every time, and nobody real in it. */
import { isPlace } from '@orchard/core';
import { readPhoneNumber } from '@orchard/core/messages';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { APP, HANDSETS, HIKER, hikers, HUTS, MEMBERS, OWNER, seededRandom } from '../src/scenario.js';

describe('the huts', () => {
  it('are fourteen along one trail, from south to north', () => {
    expect(HUTS).toHaveLength(14);
    expect(new Set(HUTS.map(({ id }) => id)).size).toBe(14);
    const latitudes = HUTS.map(({ latitude }) => latitude);
    expect(latitudes).toEqual(latitudes.toSorted((a, b) => a - b));
    for (const { longitude, latitude } of HUTS) expect(isPlace({ type: 'Point', coordinates: [longitude, latitude] })).toBe(true);
  });

  it('lie in three regions and are open, full or closed, so that every filter finds some', () => {
    expect(new Set(HUTS.map(({ region }) => region))).toEqual(new Set(['south', 'middle', 'north']));
    expect(new Set(HUTS.map(({ state }) => state))).toEqual(new Set(['open', 'closed', 'full']));
    expect(HUTS.filter(({ bunks, region }) => bunks > 20 && region === 'north').map(({ id }) => id)).toEqual([
      'juniper',
      'larkspur',
      'mossgill',
      'northend',
    ]);
  });
});

describe('the hikers', () => {
  it('are the same every time, with an address each', () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 200 }), (count) => {
        const some = hikers(count);
        expect(some).toEqual(hikers(count));
        expect(hikers(count + 1).slice(0, count)).toEqual(some);
        expect(new Set(some.map(({ email }) => email)).size).toBe(count);
      }),
    );
  });

  it('have wardens and rescuers among them, speak several languages, and some have no phone', () => {
    const some = hikers(40);
    expect(some.filter(({ roles }) => roles.includes('warden'))).toHaveLength(3);
    expect(some.filter(({ roles }) => roles.includes('rescuer'))).toHaveLength(2);
    expect(new Set(some.map(({ locale }) => locale)).size).toBeGreaterThan(4);
    expect(some.filter(({ phone }) => phone === null)).toHaveLength(8);
  });
});

it('every number is from a range kept for fiction, and every address from a name that cannot exist', () => {
  const people = [...hikers(99), ...HANDSETS.map(({ person, phone }) => ({ ...person, phone: phone ?? null }))];
  for (const { phone, email } of people) {
    expect(email).toMatch(/@hikers\.example$/);
    if (phone === null) continue;
    expect(phone).toMatch(/^(\+120255501\d\d|\+447700900\d{3})$/);
    expect(readPhoneNumber(phone).number).toBe(phone);
  }
  for (const { email } of [OWNER, ...MEMBERS]) expect(email).toMatch(/@quillfell\.example$/);
  expect(HIKER.email).toMatch(/@hikers\.example$/);
  expect(APP.name).toMatch(/^[a-z-]+$/);
});

it('the handsets are each at another push network', () => {
  expect(HANDSETS.map(({ network }) => network?.is ?? 'web push')).toEqual(['tarn', 'cairn', 'web push']);
  expect(new Set(HANDSETS.map(({ timeZone }) => timeZone)).size).toBe(3);
});

it('chance comes from the seed alone, and is spread evenly', () => {
  fc.assert(
    fc.property(fc.integer(), (seed) => {
      const [one, other] = [seededRandom(seed), seededRandom(seed)];
      const numbers = Array.from({ length: 2000 }, () => one());
      expect(numbers).toEqual(Array.from({ length: 2000 }, () => other()));
      expect(numbers.every((number) => number >= 0 && number < 1)).toBe(true);
      const mean = numbers.reduce((sum, number) => sum + number, 0) / numbers.length;
      expect(Math.abs(mean - 0.5)).toBeLessThan(0.05);
    }),
    { numRuns: 30 },
  );
});
