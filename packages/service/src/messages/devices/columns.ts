/** Fields for filters over devices and for audiences. */
import type { ValueKind } from '@orchard/core';
import { userFieldColumns, userFieldSql } from '../../people/users/fieldSql.js';
import { usersSql } from '../../people/users/usersSql.js';
import type { Environment } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import { type Columns, plainColumns } from '../../platform/database/listing.js';

const TEXTS = [
  'id',
  'userId',
  'client',
  'platform',
  'appVersion',
  'os',
  'manufacturer',
  'model',
  'locale',
  'timeZone',
  'country',
  'region',
  'permission',
  'tokenStage',
  'retiredReason',
];
const TIMES = ['retiredAt', 'createdAt', 'updatedAt', 'lastSeenAt'];
/** What a person allows of a notification. */
export const ALLOWED = ['allowsAlert', 'allowsSound', 'allowsBadge'] as const;
/** Where the system does not tell, the permission counts. */
export const allowedSql = (name: (typeof ALLOWED)[number]): string => `COALESCE(v.${name}, v.permission = 'granted')`;
/** As SQL over devices `v`. */
const DEVICE_COLUMNS: Columns = new Map([
  ...plainColumns({ text: TEXTS, time: TIMES }, 'v'),
  ...ALLOWED.map((name) => [name, { sql: allowedSql(name), kind: 'boolean' as const }] as const),
]);
/** With `user.` and a field that the team has defined: of whoever is signed in there. */
export async function deviceColumns({ ports }: Pick<Platform, 'ports'>, environment: Environment): Promise<Columns> {
  const kinds = await ports.userFields(environment);
  const users = usersSql(environment.db);
  const sqlOf = (name: string, kind: ValueKind) => `(SELECT ${userFieldSql('u.data', name, kind)} FROM ${users} WHERE u.id = v.userId)`;
  return new Map([...DEVICE_COLUMNS, ...userFieldColumns(kinds, 'user.', sqlOf)]);
}
