/** Codes of authenticator apps: TOTP (RFC 6238) with SHA-1, six digits and 30 seconds, which every app knows. */
import { timingSafeEqual } from 'node:crypto';
import { Secret, TOTP } from 'otpauth';

const STEP_MS = 30_000;
/** Steps that are accepted, around the time here: RFC 6238 section 5.2 recommends one for the network; two let a clock be 40 s off. */
const HERE = [0, -1, 1, -2, 2];
/** The same around the time of an app whose clock is known to drift (section 6). */
const THERE = [0, -1, 1];
/** How far the remembered drift of a clock may grow (section 6). */
const MOST_DRIFT = 10;
/** How far a code is looked for only to say that a clock is wrong. */
const FAR = 20;

export type TimeCode =
  | { ok: true; step: number; drift: number }
  /** `aheadS`: how many seconds the clock of the app is ahead, where the code is one of another time. */
  | { ok: false; aheadS: number | null };

const totpOf = (secret: Secret, label = '', issuer = '') => new TOTP({ issuer, label, secret, digits: 6, period: STEP_MS / 1000 });

/** @returns the secret as base32 (RFC 4648 section 6) for the store, and the address an app scans */
export function newTimeSecret(random: Buffer, label: string, issuer: string): { secret: string; uri: string } {
  const secret = new Secret({ buffer: new Uint8Array(random).buffer });
  return { secret: secret.base32, uri: totpOf(secret, label, issuer).toString() };
}

/** Checks a code around the time here, and around that of the app's clock as it was last. Whether its step was used before is for the caller. */
export function readTimeCode(secret: string, code: string, drift: number, now: number): TimeCode {
  const totp = totpOf(Secret.fromBase32(secret));
  const current = Math.floor(now / STEP_MS);
  const matches = (step: number) => isEqual(totp.generate({ timestamp: step * STEP_MS }), code);
  const accepted = new Set([...HERE.map((offset) => current + offset), ...THERE.map((offset) => current + drift + offset)]);
  for (const step of accepted)
    if (matches(step)) return { ok: true, step, drift: Math.max(-MOST_DRIFT, Math.min(MOST_DRIFT, step - current)) };
  for (let step = current - FAR; step <= current + FAR; step++)
    if (matches(step)) return { ok: false, aheadS: (step - current) * (STEP_MS / 1000) };
  return { ok: false, aheadS: null };
}

const isEqual = (a: string, b: string): boolean => a.length === b.length && timingSafeEqual(Buffer.from(a), Buffer.from(b));
