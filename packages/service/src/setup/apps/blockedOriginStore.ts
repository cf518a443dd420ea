/** Web origins that were refused, kept so that a member can see and allow them. */
import { and, desc, eq } from 'drizzle-orm';
import { blockedOrigins } from './systemTables.js';
import type { Parts } from './parts.js';

/** Longest list kept for a client: an attacker can send any number of origins. */
const MOST_PER_CLIENT = 200;

export async function recordBlockedOrigin(
  parts: Parts,
  environmentId: string,
  client: string,
  origin: string,
  route: string,
): Promise<void> {
  const at = new Date(parts.now());
  const known = await parts.database.change(
    `UPDATE \`${parts.database.name}\`.blockedOrigins SET count = count + 1, lastAt = ?, lastRoute = ? WHERE environmentId = ? AND client = ? AND origin = ?`,
    [at, route.slice(0, 200), environmentId, client, origin.slice(0, 253)],
  );
  if (known.affectedRows > 0) return;
  await parts.database.change(
    `INSERT INTO \`${parts.database.name}\`.blockedOrigins (environmentId, client, origin, count, lastRoute, firstAt, lastAt)
     SELECT ?, ?, ?, 1, ?, ?, ? FROM DUAL WHERE (SELECT COUNT(*) FROM \`${parts.database.name}\`.blockedOrigins WHERE environmentId = ? AND client = ?) < ${MOST_PER_CLIENT}
     ON DUPLICATE KEY UPDATE count = count + 1`,
    [environmentId, client, origin.slice(0, 253), route.slice(0, 200), at, at, environmentId, client],
  );
}

export const listBlockedOrigins = (parts: Parts, environmentId: string) =>
  parts.database.orm
    .select()
    .from(blockedOrigins)
    .where(eq(blockedOrigins.environmentId, environmentId))
    .orderBy(desc(blockedOrigins.lastAt))
    .limit(200);

export async function forgetBlockedOrigin(parts: Parts, environmentId: string, client: string, origin: string): Promise<void> {
  await parts.database.orm
    .delete(blockedOrigins)
    .where(and(eq(blockedOrigins.environmentId, environmentId), eq(blockedOrigins.client, client), eq(blockedOrigins.origin, origin)));
}
