export type { Json, JsonObject } from '@orchard/core';
export type { OrchardRecord } from '@orchard/contract';
