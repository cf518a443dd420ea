/** Rows of this room, and what their JSON columns hold. */
import type { VersionPart } from '@orchard/contract';
import { storedJson } from '../../platform/database/storedJson.js';
import type { functionCallTable, functionRunTable, functionTable, functionVersionTable, secretTable } from './tables.js';

export type FunctionRow = typeof functionTable.$inferSelect;
export type VersionRow = typeof functionVersionTable.$inferSelect;
export type RunRow = typeof functionRunTable.$inferSelect;
export type CallRow = typeof functionCallTable.$inferSelect;
export type SecretRow = typeof secretTable.$inferSelect;

/** What a JSON column holds. */
export const held = <T>(value: unknown): T => storedJson(value as never) as unknown as T;
export const partOf = ({ part }: Pick<FunctionRow, 'part'>): VersionPart | null => (part ? held<VersionPart>(part) : null);
