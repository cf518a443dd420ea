/** The one-time address at which the owner account is created. */
import { formatKey, readKey } from '@orchard/core';
import { and, eq } from 'drizzle-orm';
import { hashKey } from '../../platform/access/secrets.js';
import { members, settings } from '../../platform/access/systemTables.js';
import type { Parts } from './parts.js';

const NAME = 'setupTokenHash';

export async function isSetupNeeded(parts: Pick<Parts, 'database'>): Promise<boolean> {
  return (await parts.database.orm.select({ id: members.id }).from(members).limit(1)).length === 0;
}

/** Sets the one-time token, replacing any earlier one; only its hash is stored. */
export async function keepSetupToken(parts: Pick<Parts, 'database'>, token: string): Promise<void> {
  await parts.database.orm
    .insert(settings)
    .values({ name: NAME, value: hashKey(token) })
    .onDuplicateKeyUpdate({ set: { value: hashKey(token) } });
}

/** A fresh one-time token. */
export async function makeSetupToken(parts: Pick<Parts, 'database' | 'random'>): Promise<string> {
  const token = formatKey('setup', parts.random(16));
  await keepSetupToken(parts, token);
  return token;
}

/** Uses the token up; false when it is not the current one. */
export async function takeSetupToken(parts: Pick<Parts, 'database'>, token: string): Promise<boolean> {
  if (!readKey(token).ok) return false;
  const [{ affectedRows }] = await parts.database.orm
    .delete(settings)
    .where(and(eq(settings.name, NAME), eq(settings.value, hashKey(token))));
  return affectedRows === 1;
}
