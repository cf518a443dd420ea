/** The types of users' fields. */

export const USER_FIELD_TYPES = ['text', 'integer', 'number', 'boolean', 'date', 'time', 'choice', 'list'] as const;
