/** Makes a report's document: reads as the reader may, and lays out what was read. */
import { type NewReport, operations, REPORT_SOURCES, type ReportPaper, type ReportPeriod } from '@orchard/contract';
import type { Block, CareItem, ReportDocument } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Reader } from '../../platform/ports.js';
import { type Ask, askerFor, inIso, type Period } from './asking.js';
import { conditionCare, conditionFigures, incidentTable, objectiveTable, readConditionOf } from './conditionBlocks.js';
import { isList, listBlocks } from './lists.js';
import type { Parts } from './parts.js';
import { isQuestion, questionBlocks } from './questionBlocks.js';
import { peopleBlocks } from './peopleBlocks.js';
import { callCharts, callFigures, readUse, routeTable, slowerRoutes } from './useBlocks.js';

const HOUR_MS = 3_600_000;
const DAY_MS = 24 * HOUR_MS;
export const PERIOD_MS: Record<ReportPeriod, number> = {
  hour: HOUR_MS,
  day: DAY_MS,
  week: 7 * DAY_MS,
  'four-weeks': 28 * DAY_MS,
  quarter: 90 * DAY_MS,
};

type Settings = Omit<NewReport, 'name'>;

/** @throws {Problem} role-insufficient, malformed-filter, not-found */
export async function makeReport(
  parts: Parts,
  reader: Reader,
  environment: Environment,
  report: Settings & { name: string },
  period: Period,
): Promise<ReportDocument> {
  const ask = askerFor(parts, reader, environment);
  const { app, name } = environment;
  return {
    title: report.name,
    app,
    environment: name,
    ...period,
    madeAt: parts.now(),
    blocks: await blocksOf(parts, ask, environment, report, period),
  };
}

async function blocksOf(parts: Parts, ask: Ask, environment: Environment, settings: Settings, period: Period): Promise<Block[]> {
  if (isList(settings.source)) return listBlocks(ask, settings, period);
  if (isQuestion(settings.source)) return questionBlocks(ask, settings, period);
  switch (settings.source) {
    case 'summary':
      return summaryBlocks(parts, ask, environment, period);
    case 'use': {
      const use = await readUse(ask, period, settings);
      return [{ kind: 'figures', title: 'Figures', items: callFigures(use) }, ...callCharts(use), routeTable(use)];
    }
    case 'people':
      return peopleBlocks(ask, period);
    case 'condition': {
      const condition = await readConditionOf(ask, environment, period, parts.now());
      return [
        { kind: 'figures', title: 'Figures', items: conditionFigures(condition) },
        objectiveTable(condition),
        incidentTable(condition),
      ];
    }
    default:
      return [(await readProblems(ask, period)).table];
  }
}

/** What a board reads: figures with their change, what needs care, calls and latency, and what went wrong. */
async function summaryBlocks(parts: Parts, ask: Ask, environment: Environment, period: Period): Promise<Block[]> {
  const place = `${environment.app}/${environment.name}`;
  const [use, condition, problems, people] = await Promise.all([
    readUse(ask, period),
    readConditionOf(ask, environment, period, parts.now()),
    readProblems(ask, period, place),
    peopleBlocks(ask, period),
  ]);
  return [
    { kind: 'care', items: [...conditionCare(condition, place, period.zone), ...problems.care, ...slowerRoutes(use, place)] },
    ...people,
    { kind: 'figures', title: 'Service', items: [...callFigures(use), ...conditionFigures(condition)] },
    ...callCharts(use),
    ...(condition.incidents.length > 0 ? [incidentTable(condition)] : []),
    problems.table,
  ];
}

const MOST_PROBLEMS = 20;

async function readProblems(ask: Ask, period: Period, place = ''): Promise<{ table: Block; care: CareItem[] }> {
  const { items } = await ask(operations.telemetry.problems, { query: inIso(period) });
  const { from, until } = inIso(period);
  return {
    table: {
      kind: 'table',
      title: 'Refused and failed calls by problem',
      columns: [
        { name: 'problem', label: 'Problem', type: 'text' },
        { name: 'calls', label: 'Calls', type: 'number' },
        { name: 'before', label: 'Before', type: 'number' },
        { name: 'kind', label: 'Kind', type: 'text' },
        { name: 'route', label: 'Mostly', type: 'text' },
      ],
      rows: items
        .slice(0, MOST_PROBLEMS)
        .map(({ title, calls, before, failed, isNew, routes: [worst] }) => [
          isNew ? `${title} (first seen)` : title,
          calls,
          before,
          failed ? 'failed' : 'refused',
          worst ? `${worst.method} ${worst.route}` : null,
        ]),
      isCut: items.length > MOST_PROBLEMS,
    },
    care: items
      .filter(({ isNew, failed }) => isNew && failed)
      .map(({ problem, title, calls }) => ({
        weight: 40,
        text: `First seen: ${title} (${calls} ${calls === 1 ? 'call' : 'calls'} failed)`,
        link: `/${place}/requests?filter=${encodeURIComponent(`problem = '${problem}' AND at > TIMESTAMP('${from}') AND at < TIMESTAMP('${until}')`)}`,
      })),
  };
}

/** As the API shows it. */
export const presentDocument = ({ from, until, madeAt, blocks, ...document }: ReportDocument): ReportPaper => ({
  ...document,
  from: new Date(from).toISOString(),
  until: new Date(until).toISOString(),
  madeAt: new Date(madeAt).toISOString(),
  blocks: blocks.map((block) => (block.kind === 'chart' ? { ...block, from: new Date(block.from).toISOString() } : block)),
});

/** What a digest calls the summary of an environment. */
export const SUMMARY_TITLE = REPORT_SOURCES.summary;
