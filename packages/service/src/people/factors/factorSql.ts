import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { userChallengeTable, userFactorTable, userRecoveryCodeTable } from './tables.js';

/** A user is removed, in this transaction. */
export async function removeFactors(on: Statements, { db }: Environment, userId: string): Promise<void> {
  for (const table of [userFactorTable, userRecoveryCodeTable, userChallengeTable])
    await on.change(`DELETE FROM ${db.of(table)} WHERE userId = ?`, [userId]);
}
