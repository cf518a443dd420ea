import { boolean, char, index, int, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

export const deviceTable = mysqlTable(
  '_devices',
  {
    id: id().primaryKey(),
    userId: id('userId'),
    client: varchar('client', { length: 40 }),
    platform: varchar('platform', { length: 10 }).notNull(),
    appVersion: varchar('appVersion', { length: 40 }).notNull(),
    os: varchar('os', { length: 80 }).notNull(),
    manufacturer: varchar('manufacturer', { length: 80 }),
    model: varchar('model', { length: 80 }),
    locale: varchar('locale', { length: 35 }).notNull(),
    timeZone: varchar('timeZone', { length: 64 }).notNull(),
    /** ISO 3166-1, in capitals. */
    country: char('country', { length: 2 }),
    /** ISO 3166-2. */
    region: varchar('region', { length: 6 }),
    permission: varchar('permission', { length: 10 }).notNull(),
    /** What the person allows of a notification; null where the system does not tell. */
    allowsAlert: boolean('allowsAlert'),
    allowsSound: boolean('allowsSound'),
    allowsBadge: boolean('allowsBadge'),
    endpoint: varchar('endpoint', { length: 1000 }),
    p256dh: char('p256dh', { length: 87 }),
    auth: char('auth', { length: 22 }),
    /** Which of the environment's web push keys the subscription was made with. */
    pushKey: varchar('pushKey', { length: 16 }),
    /** Its address at another kind of push network, and the stage of that address. */
    token: varchar('token', { length: 1000 }),
    tokenStage: varchar('tokenStage', { length: 5 }),
    /** Why push could not be turned on there, as the device says. */
    pushTrouble: varchar('pushTrouble', { length: 300 }),
    /** The number on the app's icon, as far as it is known here. */
    badge: int('badge').notNull().default(0),
    retiredAt: instant('retiredAt'),
    retiredReason: varchar('retiredReason', { length: 200 }),
    createdAt: instant('createdAt').notNull(),
    updatedAt: instant('updatedAt').notNull(),
    lastSeenAt: instant('lastSeenAt').notNull(),
    /** Hash of its secret; null until it has one. */
    secretHash: char('secretHash', { length: 64 }),
  },
  (t) => [index('devices_user').on(t.userId), index('devices_seen').on(t.lastSeenAt), index('devices_updated').on(t.updatedAt)],
);
