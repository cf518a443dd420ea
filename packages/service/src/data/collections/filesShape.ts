/** The collection that the service keeps of an environment's files: what is known of each, and the properties that the team gave it. */
import { composeFolderRules, FILES, type Field, type Fields, OWNER_ONLY } from '@orchard/core';
import type { Index } from './shape.js';

export { FILES };

const FACTS: [string, Field][] = [
  ['path', { type: 'text', required: true, unique: true }],
  ['folder', { type: 'text', required: true }],
  ['name', { type: 'text', required: true }],
  ['size', { type: 'integer', required: true }],
  ['type', { type: 'text', required: true }],
  ['digest', { type: 'text', required: true }],
  ['edition', { type: 'integer', required: true }],
  // Of video and audio.
  ['durationMs', { type: 'integer' }],
  // The folder whose rules hold for the file.
  ['rulesFrom', { type: 'text', required: true }],
];
export const FILE_FACTS: ReadonlySet<string> = new Set(FACTS.map(([name]) => name));

/** What a new environment's files are like. */
export const NEW_FILES: { fields: Fields; indexes: readonly Index[]; rules: ReturnType<typeof composeFolderRules> } = {
  fields: new Map(FACTS),
  indexes: [
    { name: 'folder_name', kind: 'order', fields: ['folder', 'name'] },
    { name: 'digest', kind: 'order', fields: ['digest'] },
  ],
  rules: composeFolderRules(new Map([['', OWNER_ONLY]])),
};
