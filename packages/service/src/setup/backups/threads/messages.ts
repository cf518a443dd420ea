/** What the threads of backups say to each other. */
import type { ArchivePart, COLUMN_FORMS } from '@orchard/contract';

export type ReadColumn = { name: string; form: (typeof COLUMN_FORMS)[number] };
/** `from`: its name in SQL, with the database. `key`: the columns of the primary key. */
export type ReadTable = { name: string; from: string; columns: ReadColumn[]; key: string[] };

export type ToReader =
  | { kind: 'begin' }
  | { kind: 'query'; id: number; sql: string; values: unknown[] }
  | { kind: 'read'; table: ReadTable }
  | { kind: 'close' };
export type FromReader =
  | { kind: 'began'; at: string }
  | { kind: 'rows'; id: number; rows: unknown[][] }
  | { kind: 'failed'; text: string; errno: number; code: string };

/** Names of objects that are stored; `digests`: nothing is packed; `raw`: lines pass as they are. */
export type Known = string[] | 'digests' | 'raw';
export type ToPacker = { table: string; rows: number; content: Uint8Array } | { table: string; end: number };
/** `packed` is null where the object is stored already, or nothing is packed. */
export type FromPacker = { table: string; part: ArchivePart; packed: Uint8Array | null } | { table: string; end: number };

export type ToLoader =
  | { kind: 'table'; name: string; into: string; columns: ReadColumn[] }
  | { kind: 'part'; part: ArchivePart; packed: Uint8Array }
  | { kind: 'lines'; content: Uint8Array }
  | { kind: 'end' }
  | { kind: 'close' };
export type FromLoader = { kind: 'ready' } | { kind: 'failed'; text: string; damaged: boolean };
