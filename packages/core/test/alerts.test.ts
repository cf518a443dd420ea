/** Who is on call, what is signed, and which traffic is unusual. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { onCallAt, type Rota, signatureBase, signatureParameters, unusualTraffic } from '../src/index.js';

const rota: Rota = {
  name: 'duty',
  timeZone: 'Europe/Oslo',
  members: ['ilse', 'jonas', 'adaeze'],
  startsOn: '2026-10-19',
  handOver: '09:00',
  days: 7,
  replacements: [{ date: '2026-10-22', member: 'per' }],
};
const HOUR_MS = 3_600_000;

describe('on call', () => {
  it.each([
    ['before the first turn nobody', '2026-10-19T06:59:00Z', null],
    ['from the first hand-over on the first', '2026-10-19T07:00:00Z', 'ilse'],
    ['for a day the replacement', '2026-10-22T12:00:00Z', 'per'],
    ['until the next hand-over', '2026-10-23T06:59:00Z', 'per'],
    ['and then the first again', '2026-10-23T07:00:00Z', 'ilse'],
    // Summer time ended on 25 October: nine o'clock is an hour later in UTC.
    ['in winter an hour later, still the first', '2026-10-26T07:30:00Z', 'ilse'],
    ['then the second', '2026-10-26T08:00:00Z', 'jonas'],
    ['and after all of them the first', '2026-11-09T08:00:00Z', 'ilse'],
  ])('is %s', (_, at, member) => expect(onCallAt(rota, Date.parse(at)).member).toBe(member));

  it('says whom somebody replaces, and until when', () => {
    expect(onCallAt(rota, Date.parse('2026-10-22T12:00:00Z'))).toEqual({
      member: 'per',
      replaces: 'ilse',
      until: Date.parse('2026-10-23T07:00:00Z'),
    });
    expect(onCallAt(rota, Date.parse('2026-10-20T12:00:00Z')).until).toBe(Date.parse('2026-10-22T07:00:00Z'));
    expect(onCallAt(rota, Date.parse('2026-10-24T12:00:00Z')).until).toBe(Date.parse('2026-10-26T08:00:00Z'));
  });

  it('is the same person until it says, and then another day or turn', () => {
    const zone = fc.constantFrom('Europe/Oslo', 'America/New_York', 'Pacific/Auckland', 'UTC');
    fc.assert(
      fc.property(zone, fc.integer({ min: 1, max: 14 }), fc.integer({ min: 0, max: 400 * 24 }), (timeZone, days, hours) => {
        const own = { ...rota, timeZone, days };
        const at = Date.parse('2026-10-20T00:00:00Z') + hours * HOUR_MS;
        const { member, until } = onCallAt(own, at);
        expect(until).toBeGreaterThan(at);
        expect(onCallAt(own, until - 1).member).toBe(member);
        expect(until - at).toBeLessThanOrEqual((days * 24 + 1) * HOUR_MS);
      }),
    );
  });
});

it('the signature base is that of RFC 9421', () => {
  const components = ['@method', '@target-uri', 'content-digest'];
  const parameters = signatureParameters(components, 1_700_000_000, 'hook-1');
  const signed = { method: 'POST', url: 'https://ops.quillfell.example/hook', headers: { 'content-digest': 'sha-256=:abc=:' } };
  expect(signatureBase(signed, components, parameters)).toBe(
    [
      '"@method": POST',
      '"@target-uri": https://ops.quillfell.example/hook',
      '"content-digest": sha-256=:abc=:',
      '"@signature-params": ("@method" "@target-uri" "content-digest");created=1700000000;keyid="hook-1";alg="hmac-sha256"',
    ].join('\n'),
  );
});

it.each([
  [1_000, [100, 120, 90, 110], 'many'],
  [20, [100, 120, 90, 110], 'few'],
  [200, [100, 120, 90, 110], null],
  // It was as many in one of these weeks.
  [1_000, [100, 1_200, 90, 110], null],
  [40, [1, 2, 1, 2], null],
  [1_000, [100], null],
] as [number, number[], string | null][])('%d calls after %j are unusual: %s', (calls, before, unusual) =>
  expect(unusualTraffic(calls, before)).toBe(unusual),
);
