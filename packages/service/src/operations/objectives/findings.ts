/** What an evaluation keeps of each environment; stored as JSON. */
import type { EnvironmentConditionDocument, Finding, InstallationCondition } from '@orchard/contract';
import type { EnvironmentCondition, Settling } from '@orchard/core';

export type RecentCell = EnvironmentConditionDocument['recent'][number];
export type Findings = {
  version: number;
  objectives: Finding[];
  recent: RecentCell[];
  /** Of the installation alone. */
  checks?: InstallationCondition['checks'];
};
/** A condition that is about to follow; the present one has columns of its own. */
export type StoredSettling = Pick<Settling, 'next' | 'nextSince'>;

export type Evaluated = {
  environmentId: string;
  settling: Settling;
  findings: Findings;
};
export type Change = { at: number; condition: EnvironmentCondition; objective: string | null; value: number | null; text: string | null };
