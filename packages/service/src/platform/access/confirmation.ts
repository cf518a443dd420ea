/** Sensitive changes ask members to prove again who they are, where that was a while ago. */
import { type ConfirmationMethod, Problem } from '@orchard/contract';
import { and, eq, isNotNull } from 'drizzle-orm';
import type { Call } from '../call.js';
import type { Database } from '../database/connection.js';
import type { Platform } from '../platform.js';
import { memberFactors } from './systemTables.js';

/** How long after a sign-in or confirmation it is not asked again. */
export const CONFIRMED_MS = 10 * 60_000;

const WORDS: Record<ConfirmationMethod, string> = {
  password: 'your password',
  code: 'a code of your authenticator app, or a recovery code',
  passkey: 'your passkey',
};
export const methodWords = (methods: readonly ConfirmationMethod[]): string => methods.map((method) => WORDS[method]).join(', or ');

/** With what a member proves who they are: second factors where there are any, otherwise the password. */
export async function methodsOf({ database }: { database: Pick<Database, 'orm'> }, memberId: string): Promise<ConfirmationMethod[]> {
  const rows = await database.orm
    .select({ kind: memberFactors.kind })
    .from(memberFactors)
    .where(and(eq(memberFactors.ownerId, memberId), isNotNull(memberFactors.confirmedAt)));
  if (rows.length === 0) return ['password'];
  // A recovery code is entered where a code is.
  return rows.some(({ kind }) => kind === 'passkey') ? ['passkey', 'code'] : ['code'];
}

/** @throws {Problem} confirmation-needed */
export async function demandConfirmed(call: Pick<Call, 'member' | 'at'>, parts: Pick<Platform, 'database'>): Promise<void> {
  const { member } = call;
  if (!member || member.via === 'automation' || call.at - member.confirmedAt <= CONFIRMED_MS) return;
  const methods = await methodsOf(parts, member.id);
  throw new Problem('confirmation-needed', `Confirm that it is you, with ${methodWords(methods)}. Nothing was changed yet.`, { methods });
}
