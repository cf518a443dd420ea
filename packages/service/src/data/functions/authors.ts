/** As whom a function reads and writes. */
import { writeActor } from '@orchard/core';
import type { ActionBy } from '../../platform/ports.js';
import type { Author } from '../records/author.js';

export const originOf = (author: Author) => author.origin ?? { request: null, trace: null, depth: 0 };
/** Somebody who acts outside of records. */
export const authorBy = ({ kind, userId, roles, request, trace }: ActionBy): Author => ({
  userId,
  roles,
  fields: {},
  trusted: kind === 'server',
  told: true,
  by: writeActor(userId ? { kind: 'user', id: userId } : { kind: 'service', id: null }),
  origin: { request, trace, depth: 0 },
});

/** Whose rights a function has, and as whom it is recorded. */
export function functionAuthor({ name, rights }: { name: string; rights: string }, author: Author, depth: number): Author {
  const origin = { ...originOf(author), depth };
  if (rights !== 'own') return { ...author, origin };
  return { userId: null, roles: [], fields: {}, trusted: true, told: true, by: writeActor({ kind: 'function', id: name }), origin };
}
