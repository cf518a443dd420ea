/** The names that filters over a collection may use: its fields, and those of the collections its references lead to. */
import type { Collection } from '@orchard/contract';
import { kindOfField, SYSTEM_KINDS, type ValueKind } from '@orchard/core';
import type { Names } from '../parts/filterBar.js';

const USERS: [string, { kind: ValueKind }][] = [
  ['id', { kind: 'text' }],
  ['email', { kind: 'text' }],
  ['name', { kind: 'text' }],
  ['roles', { kind: 'list' }],
  ['disabled', { kind: 'boolean' }],
];

function own({ fields }: Pick<Collection, 'fields'>): [string, { kind: ValueKind; choices?: string[] | undefined }][] {
  return [
    ...fields.map((field): [string, { kind: ValueKind; choices?: string[] | undefined }] => [
      field.name,
      { kind: kindOfField(field), choices: field.choices },
    ]),
    ...[...SYSTEM_KINDS].map(([name, kind]): [string, { kind: ValueKind }] => [name, { kind }]),
  ];
}

/** The texts that `search` looks into; none without a search index. */
export const searchedFields = ({ indexes }: Pick<Collection, 'indexes'>): string[] =>
  indexes.find(({ kind }) => kind === 'search')?.fields ?? [];

/** Names with one step along references. */
export function namesOf(collection: Pick<Collection, 'fields' | 'indexes'>, all: readonly Collection[]): Names {
  const followed = collection.fields
    .filter(({ type }) => type === 'reference')
    .flatMap(({ name, to }) => {
      const target = all.find((one) => one.name === to);
      const inner = to === 'users' ? USERS : target ? own(target) : [];
      return inner.map(([field, of]): [string, typeof of] => [`${name}.${field}`, of]);
    });
  return Object.assign(new Map([...own(collection), ...followed]), { searched: searchedFields(collection) });
}
