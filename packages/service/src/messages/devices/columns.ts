/** Fields for filters over devices and for audiences. */
import type { ValueKind } from '@orchard/core';
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
/** As SQL over devices `v`. */
export const DEVICE_COLUMNS: Columns = new Map(plainColumns({ text: TEXTS, time: TIMES }, 'v'));
export const DEVICE_KINDS: ReadonlyMap<string, ValueKind> = new Map([
  ...TEXTS.map((name) => [name, 'text'] as const),
  ...TIMES.map((name) => [name, 'time'] as const),
]);
