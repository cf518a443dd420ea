/** Whether an automation token still works. */
import type { AutomationToken } from '@orchard/contract';

type State = 'valid' | 'expired' | 'revoked';
export const stateOf = ({ revokedAt, expiresAt }: Pick<AutomationToken, 'revokedAt' | 'expiresAt'>, now: number): State =>
  revokedAt ? 'revoked' : Date.parse(expiresAt) <= now ? 'expired' : 'valid';
