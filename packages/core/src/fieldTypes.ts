/** The types of fields. */

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
/** What happens to a record when the one it refers to is deleted. */
export const ON_DELETE = ['restrict', 'clear', 'cascade'] as const;
export type OnDelete = (typeof ON_DELETE)[number];
/** What happens to a file when the record that refers to it is deleted. */
export const WITH_RECORD = ['keep', 'delete'] as const;
export type WithRecord = (typeof WITH_RECORD)[number];
/** The collection that the service keeps of an environment's files: no collection of a team can have its name. */
export const FILES = '_files';
