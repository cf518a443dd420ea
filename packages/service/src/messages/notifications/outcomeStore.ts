/** Whom a notification reached, for questions about what it did. Raw SQL: a whole notification at once, as three columns. */
import type { Environment } from '../../platform/call.js';
import { deliveryTable } from './tables.js';

export type NotificationOutcome = 'opened' | 'arrived' | 'not reached';
export type OutcomeRow = { target: string; userId: string | null; variant: string; outcome: NotificationOutcome; at: Date | null };

/** At most so many deliveries are looked at. */
const MOST = 500_000;

/** @returns with each, when the message was opened, came, or was tried */
export function outcomesOf({ db }: Environment, notificationId: string): Promise<OutcomeRow[]> {
  return db.rows<OutcomeRow>(
    `SELECT target, userId, variant,
       IF(openedAt IS NOT NULL, 'opened', IF(receivedAt IS NOT NULL OR state IN ('accepted', 'arrived'), 'arrived', 'not reached')) AS outcome,
       COALESCE(openedAt, receivedAt, sentAt, updatedAt) AS at
     FROM ${db.of(deliveryTable)} WHERE notificationId = ? LIMIT ${MOST}`,
    [notificationId],
  );
}
