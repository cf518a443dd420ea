/** Taking over accounts from another system. */
import { type ImportedUser, Problem } from '@orchard/contract';
import { readPasswordHash } from '@orchard/core/accounts';
import { demandPhone } from '../../messages/gateways/numbers.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';

export type Imported = { added: number; refused: { index: number; email: string; problem: string }[] };

/** One after another, so that one that is refused stops none of the others. */
export async function importUsers(parts: Parts, environment: Environment, users: readonly ImportedUser[]): Promise<Imported> {
  const imported: Imported = { added: 0, refused: [] };
  for (const [index, user] of users.entries()) {
    try {
      await addOne(parts, environment, user);
      imported.added++;
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      imported.refused.push({ index, email: user.email, problem: error.detail });
    }
  }
  parts.changes.wake(environment.id);
  return imported;
}

async function addOne(parts: Parts, environment: Environment, user: ImportedUser): Promise<void> {
  const { passwordHash, emailConfirmed, createdAt, phone, ...rest } = user;
  const hash = passwordHash === undefined ? null : readPasswordHash(passwordHash);
  if (typeof hash === 'string') throw new Problem('invalid-input', `${hash}.`);
  await parts.userSessions.makeUser(environment, {
    ...rest,
    phone: phone && demandPhone(phone, 'body.users').number,
    passwordHash,
    emailConfirmedAt: emailConfirmed ? new Date(parts.now()) : undefined,
    createdAt: createdAt ? new Date(createdAt) : undefined,
  });
}
