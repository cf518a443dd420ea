/** What can be wrong with a provider of identity. */
export type IdentityFault =
  | 'none'
  /** Every answer takes its time. */
  | 'slow'
  /** Its clock is an hour ahead. */
  | 'clock-off'
  /** What it signs is signed by a key that nobody knows. */
  | 'wrong-signature'
  /** It publishes another key than the one it signs with. */
  | 'changed-keys'
  /** What it hands out has expired already. */
  | 'expired'
  /** Nobody is let in. */
  | 'revoked';
export const SLOW_MS = 3_000;
export const CLOCK_OFF_MS = 3_600_000;
