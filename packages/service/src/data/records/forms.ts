/** What is asked of records, and what they answer. */
import type { JsonObject } from '@orchard/core';
import type { ListRequest } from '../../platform/database/listing.js';

export type StoredRecord = JsonObject & { id: string; version: number };
export type ReadRequest = { fields?: string | undefined; include?: string | undefined };
export type RecordListRequest = ListRequest & {
  fields?: string | undefined;
  include?: string | undefined;
  count?: boolean | undefined;
  excerpts?: boolean | undefined;
  /** Only those of these. */
  ids?: readonly string[] | undefined;
};
export type RecordPage = { items: StoredRecord[]; next?: string; count?: number };
export type SummaryRequest = { group?: string | undefined; measure?: string | undefined; filter?: string | undefined; limit: number };
export type Summary = { groups: JsonObject[]; more: boolean };
/** A version the caller requires: If-Match; `absent` is `If-None-Match: *`. */
export type Expected = { version?: number; absent?: boolean };
