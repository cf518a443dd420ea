/** Users as a source of rows, for statements of other rooms. Their columns are those that the API shows. */
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { userTable } from './tables.js';

/** Users as `u`, for FROM and JOIN. */
export const usersSql = (db: EnvironmentDatabase): string => `${db.of(userTable)} u`;

/** The user who has verified a number last, as an expression bound to the number. */
export const ownerOfPhoneSql = (db: EnvironmentDatabase): string =>
  `(SELECT id FROM ${db.of(userTable)} WHERE phone = ? ORDER BY phoneVerifiedAt DESC LIMIT 1)`;
