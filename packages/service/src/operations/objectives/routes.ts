import { operations } from '@orchard/contract';
import { bind, type Call, environmentOf, type Route, type SignedInMember } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import { demandRange } from '../telemetry/range.js';
import { readCondition, readHistory, readPastCondition } from './condition.js';
import { demandSet, replaceObjectives, tryObjective } from './managing.js';
import { exportSlo, importSlo } from './openSlo.js';
import { presentSet, readSets } from './store.js';

export function objectiveRoutes(parts: Platform): Route[] {
  const { condition, objectives } = operations;
  const audited = { subject: () => 'objectives', read: (call: Pick<Call, 'environment'>) => demandSet(environmentOf(call)) };
  return [
    bind(condition.read, async ({ member, query }) => ({
      body: query.at
        ? await readPastCondition(parts, member as SignedInMember, Date.parse(query.at))
        : await readCondition(parts, member as SignedInMember),
    })),
    bind(condition.history, async ({ member, query }) => {
      const { from, until } = demandRange(query, parts.now());
      return { body: await readHistory(parts, member as SignedInMember, from, until) };
    }),
    bind(objectives.read, async (call) => ({ body: await demandSet(environmentOf(call)) })),
    bind(
      objectives.replace,
      async (call) => ({ body: await replaceObjectives(call, environmentOf(call), call.body, parts.now()) }),
      audited,
    ),
    bind(objectives.versions, async (call) => {
      const environment = environmentOf(call);
      return { body: { items: (await readSets(environment)).map((set) => presentSet(environment, set)) } };
    }),
    bind(objectives.trial, async (call) => ({
      body: await tryObjective(environmentOf(call), call.body.objective, call.body.days, parts.now()),
    })),
    bind(objectives.exportSlo, (call) => exportSlo(call)),
    bind(objectives.importSlo, async (call) => ({ body: await importSlo(call, parts.now()) }), audited),
  ];
}
