import type { Author } from './author.js';
import type { Written } from './gate.js';
import type { AskedWrite, RecordsElsewhere } from './ports.js';

/** A write of records that do not stand in a table of this environment: their own server does it. */
export async function writeElsewhere(
  outside: RecordsElsewhere,
  { action, id, record, expected }: AskedWrite,
  author: Author,
): Promise<Written> {
  switch (action) {
    case 'create':
      return { record: await outside.create(record, author), created: true };
    case 'put':
      return outside.put(id, record, expected, author);
    case 'change':
      return { record: await outside.patch(id, record, expected, author), created: false };
    case 'remove':
      await outside.remove(id, expected, author);
      return { record: null, created: false };
  }
}
