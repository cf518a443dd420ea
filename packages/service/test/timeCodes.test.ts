/** Codes of authenticator apps: RFC 6238, with clocks that are off. */
import { randomBytes } from 'node:crypto';
import fc from 'fast-check';
import { Secret, TOTP } from 'otpauth';
import { describe, expect, it } from 'vitest';
import { newTimeSecret, readTimeCode } from '../src/platform/access/factors/timeCodes.js';

const STEP_MS = 30_000;
const { secret } = newTimeSecret(randomBytes(20), 'mira@quillfell.example', 'Vivid Orchard');
/** What an app with this secret shows at a time. */
const shownAt = (time: number, of = secret) =>
  new TOTP({ secret: Secret.fromBase32(of), digits: 6, period: 30 }).generate({ timestamp: time });
const time = fc.integer({ min: 1_600_000_000, max: 4_000_000_000 }).map((seconds) => seconds * 1000);

describe('the codes of RFC 6238, appendix B', () => {
  // The table has eight digits; six digits are the last six of them (RFC 4226 section 5.3).
  const seed = new Secret({ buffer: new Uint8Array(Buffer.from('12345678901234567890')).buffer }).base32;
  it.each([
    [59, '287082'],
    [1_111_111_109, '081804'],
    [1_111_111_111, '050471'],
    [1_234_567_890, '005924'],
    [2_000_000_000, '279037'],
    [20_000_000_000, '353130'],
  ])('at %i s is %s', (seconds, code) => {
    expect(readTimeCode(seed, code, 0, seconds * 1000)).toMatchObject({ ok: true, step: Math.floor(seconds / 30), drift: 0 });
  });
});

describe('a code', () => {
  it('is accepted while a clock is up to two steps off, and the drift is remembered', () => {
    fc.assert(
      fc.property(time, fc.integer({ min: -2, max: 2 }), (now, off) => {
        const read = readTimeCode(secret, shownAt(now + off * STEP_MS), 0, now);
        // Codes have six digits, so another step may show the same one.
        expect(read.ok).toBe(true);
      }),
    );
  });

  it('of a clock that is known to drift is accepted around that', () => {
    fc.assert(
      fc.property(time, fc.integer({ min: -10, max: 10 }), fc.integer({ min: -1, max: 1 }), (now, drift, off) => {
        expect(readTimeCode(secret, shownAt(now + (drift + off) * STEP_MS), drift, now).ok).toBe(true);
      }),
    );
  });

  it('of another time is refused, with how far the clock is off', () => {
    fc.assert(
      fc.property(time, fc.integer({ min: 4, max: 20 }), fc.boolean(), (now, off, isBehind) => {
        const steps = isBehind ? -off : off;
        const read = readTimeCode(secret, shownAt(now + steps * STEP_MS), 0, now);
        if (!read.ok) expect(Math.abs(read.aheadS ?? 0)).toBeLessThanOrEqual(600);
        if (!read.ok && read.aheadS !== null && Math.sign(read.aheadS) === Math.sign(steps))
          expect(Math.abs(read.aheadS)).toBeGreaterThan(60);
      }),
    );
    const now = 1_795_000_000_000;
    expect(readTimeCode(secret, shownAt(now - 8 * STEP_MS), 0, now)).toEqual({ ok: false, aheadS: -240 });
  });

  it('of another secret, or of an hour ago, is just wrong', () => {
    const now = 1_795_000_000_000;
    const other = newTimeSecret(randomBytes(20), 'x', 'y').secret;
    const wrong = [shownAt(now, other), shownAt(now - 3_600_000), '', '12345', 'abcdef', '1234567'];
    for (const code of wrong) {
      const read = readTimeCode(secret, code, 0, now);
      // One in a hundred thousand is right by chance.
      expect(read.ok && code.length !== 6).toBe(false);
    }
    for (const code of ['', '12345', 'abcdef', '1234567']) expect(readTimeCode(secret, code, 0, now)).toEqual({ ok: false, aheadS: null });
  });

  it('never makes the drift grow beyond five minutes', () => {
    fc.assert(
      fc.property(time, fc.integer({ min: -10, max: 10 }), fc.integer({ min: -1, max: 1 }), (now, drift, off) => {
        const read = readTimeCode(secret, shownAt(now + (drift + off) * STEP_MS), drift, now);
        if (read.ok) expect(Math.abs(read.drift)).toBeLessThanOrEqual(10);
      }),
    );
  });
});

it('the address for an app names account and issuer, and holds the secret alone', () => {
  const made = newTimeSecret(randomBytes(20), 'mira@quillfell.example at orchard.quillfell.example', 'Vivid Orchard');
  const uri = new URL(made.uri);
  expect(made.secret).toMatch(/^[A-Z2-7]{32}$/);
  expect(`${uri.protocol}//${uri.host}`).toBe('otpauth://totp');
  expect(decodeURIComponent(uri.pathname)).toBe('/Vivid Orchard:mira@quillfell.example at orchard.quillfell.example');
  expect(Object.fromEntries(uri.searchParams)).toEqual({
    issuer: 'Vivid Orchard',
    secret: made.secret,
    algorithm: 'SHA1',
    digits: '6',
    period: '30',
  });
});
