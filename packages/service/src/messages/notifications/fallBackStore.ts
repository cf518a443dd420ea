/**
 * Who has not received a notification in time, and the deliveries that reach them another way. Raw SQL: one INSERT … SELECT
 * over the deliveries there are.
 */
import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import type { Parts } from './parts.js';
import { userDeliveries } from './spreadStore.js';
import type { SentNotification } from './store.js';
import { deliveryTable, notificationTable } from './tables.js';

type FallBack = NonNullable<SentNotification['fallBack']>;

/** Users with no device that reported the notification; bound to its id. */
const waitingSql = ({ db }: Environment) =>
  `SELECT userId FROM ${db.of(deliveryTable)} WHERE notificationId = ? AND way = 'push' AND userId IS NOT NULL GROUP BY userId HAVING SUM(state = 'arrived') = 0`;

/** Users who already have a delivery by the other way; bound to the id of the notification. */
const reachedSql = ({ db }: Environment, way: FallBack['way']) =>
  `SELECT userId FROM ${db.of(deliveryTable)} WHERE notificationId = ? AND way = '${way}' AND userId IS NOT NULL`;

/**
 * Creates a slice of deliveries for users whose time has run out.
 * @returns how many there are
 */
export async function spreadFallBack(
  parts: Parts,
  on: Statements,
  environment: Environment,
  sent: SentNotification,
  { way, afterMin }: FallBack,
): Promise<number> {
  const { db } = environment;
  const now = parts.now();
  const over = `${waitingSql(environment)} AND SUM(state = 'queued' AND sentAt IS NULL) = 0 AND MAX(COALESCE(sentAt, updatedAt)) <= ?`;
  const gateway = await parts.gateways.openFor(environment, way);
  const { sql, values } = userDeliveries(
    parts,
    environment,
    { ...sent, content: { ...sent.content, second: undefined } },
    way,
    gateway?.row.name ?? null,
    { sql: '?', values: [new Date(now)] },
    {
      sql: `u.id IN (${over}) AND u.id NOT IN (${reachedSql(environment, way)})`,
      values: [sent.id, new Date(now - afterMin * 60_000), sent.id],
    },
  );
  const { affectedRows } = await on.change(sql, values);
  if (affectedRows > 0) await on.change(`UPDATE ${db.of(notificationTable)} SET slices = slices + 1 WHERE id = ?`, [sent.id]);
  return affectedRows;
}

/** How many users have neither received it nor a delivery by the other way. */
export async function countWaiting(on: Statements, environment: Environment, id: string, way: FallBack['way']): Promise<number> {
  const [left] = await on.rows<{ count: number }>(
    `SELECT COUNT(*) AS count FROM (${waitingSql(environment)}) AS open WHERE userId NOT IN (${reachedSql(environment, way)})`,
    [id, id],
  );
  return Number(left?.count ?? 0);
}
