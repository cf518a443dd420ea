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
  'list',
  'object',
] as const;
export type FieldType = (typeof FIELD_TYPES)[number];
/** What happens to a record when the one it refers to is deleted. */
export const ON_DELETE = ['restrict', 'clear', 'cascade'] as const;
export type OnDelete = (typeof ON_DELETE)[number];
