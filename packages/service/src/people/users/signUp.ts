/** Somebody makes an account of their own, with a password. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { type Caller, demandSignUp, demandVersion, entryRules } from './entry.js';
import type { Parts } from './parts.js';
import type { Sessions } from './sessions.js';
import type { UserRow } from './store.js';

type Wanted = { email: string; password: string; name?: string | undefined; data?: JsonObject | undefined; terms?: string | undefined };

/** @throws {Problem} access-refused, app-outdated, already-exists, invalid-input; confirmation-missing once the account is there */
export async function signUp(parts: Parts, sessions: Sessions, environment: Environment, caller: Caller, wanted: Wanted): Promise<UserRow> {
  await demandSignUp(environment, wanted);
  await demandVersion(environment, caller);
  const { confirm } = await entryRules.read(environment);
  if (confirm === 'first') await sessions.keepQuiet(environment, wanted, caller.locale);
  const user = await sessions.makeUser(environment, wanted, 'user');
  if (confirm !== 'never') await parts.ports.accounts.confirm(environment, user, caller.locale);
  if (confirm === 'first') throw new Problem('confirmation-missing');
  return user;
}
