/** The types of fields. */
import type { ValueKind } from './filter/condition.js';

export const FIELD_TYPES = [
  'text',
  'integer',
  'number',
  'boolean',
  'date',
  'time',
  'choice',
  'place',
  'reference',
  'file',
  'list',
  'object',
] as const;
export type FieldType = (typeof FIELD_TYPES)[number];
/** The type of a field in filters. */
export const KIND_OF_TYPE: Record<FieldType, ValueKind> = {
  text: 'text',
  integer: 'number',
  number: 'number',
  boolean: 'boolean',
  date: 'date',
  time: 'time',
  choice: 'text',
  place: 'place',
  reference: 'text',
  file: 'text',
  list: 'list',
  object: 'object',
};
/** The same of the members that every record has. */
export const SYSTEM_KINDS: ReadonlyMap<string, ValueKind> = new Map([
  ['id', 'text'],
  ['createdAt', 'time'],
  ['updatedAt', 'time'],
  ['version', 'number'],
  ['ownerId', 'text'],
]);
/** What happens to a record when the one it refers to is deleted. */
export const ON_DELETE = ['restrict', 'clear', 'cascade'] as const;
export type OnDelete = (typeof ON_DELETE)[number];
/** What happens to a file when the record that refers to it is deleted. */
export const WITH_RECORD = ['keep', 'delete'] as const;
export type WithRecord = (typeof WITH_RECORD)[number];
/** How a field that a device and the service both changed is settled. Absent: the service's value stays. */
export const MERGE_POLICIES = ['service', 'device', 'larger', 'smaller', 'union'] as const;
export type MergePolicy = (typeof MERGE_POLICIES)[number];
/** The collection that the service keeps of an environment's files: no collection of a team can have its name. */
export const FILES = '_files';
