/** Devices as a source of rows, for statements of other rooms. */
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { deviceTable } from './tables.js';

/** Devices as `v`, for FROM and JOIN. */
export const devicesSql = (db: EnvironmentDatabase): string => `${db.of(deviceTable)} v`;

/** The time zone of the device that a user `u` used last; NULL without one. */
export const zoneOfUserSql = (db: EnvironmentDatabase): string =>
  `(SELECT w.timeZone FROM ${db.of(deviceTable)} w WHERE w.userId = u.id ORDER BY w.lastSeenAt DESC LIMIT 1)`;
