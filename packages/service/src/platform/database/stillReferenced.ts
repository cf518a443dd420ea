import { Problem } from '@orchard/contract';
import { messageOf } from './errors.js';

/** MariaDB's refusal to delete a row that others refer to, as a problem that names them. @param table as the API calls it */
export function stillReferenced(table: string, id: string, error: unknown): Problem {
  const message = messageOf(error);
  const field = /FOREIGN KEY \(`(\w+)`\)/.exec(message)?.[1];
  const from = /\(`[^`]+`\.`([^`]+)`, CONSTRAINT/.exec(message)?.[1];
  return new Problem(
    'still-referenced',
    `\`${table}\` ${id} is still referred to by \`${field}\` in \`${from}\`. Change or delete those records first, or set the reference to clear or cascade.`,
  );
}
