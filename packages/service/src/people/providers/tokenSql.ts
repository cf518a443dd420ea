import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { providerTokenTable } from './tables.js';

/** A user is removed, in this transaction. */
export async function removeTokens(on: Statements, { db }: Environment, userId: string): Promise<void> {
  await on.change(`DELETE FROM ${db.of(providerTokenTable)} WHERE userId = ?`, [userId]);
}
