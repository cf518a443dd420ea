/** How well an environment was in a period, as blocks of a report. */
import {
  type ConditionChange,
  type EnvironmentConditionDocument,
  type Incident,
  measureWords,
  operations,
  subjectWords,
  valueWords,
} from '@orchard/contract';
import { type Block, type CareItem, type EnvironmentCondition, type Figure, momentWords } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { type Ask, inIso, type Period } from './asking.js';

export type ConditionOfPeriod = {
  now: EnvironmentConditionDocument | null;
  /** Milliseconds in each condition. */
  spent: Record<EnvironmentCondition, number>;
  incidents: Incident[];
};

const isHere = (environment: Environment) => (one: { app: string; environment: string }) =>
  one.app === environment.app && one.environment === environment.name;

export async function readConditionOf(ask: Ask, environment: Environment, period: Period, now: number): Promise<ConditionOfPeriod> {
  const [present, history, incidents] = await Promise.all([
    ask(operations.condition.read, {}),
    ask(operations.condition.history, { query: inIso(period) }),
    ask(operations.incidents.list, { query: { filter: duringFilter(period), limit: 200 } }),
  ]);
  const past = history.items.find(isHere(environment));
  return {
    now: present.items.find(isHere(environment)) ?? null,
    spent: timeIn(past?.before ?? 'dormant', past?.changes ?? [], period.from, Math.min(period.until, now)),
    incidents: incidents.items,
  };
}

const duringFilter = (period: Period): string => {
  const { from, until } = inIso(period);
  return `openedAt < TIMESTAMP('${until}') AND (closedAt IS NULL OR closedAt > TIMESTAMP('${from}'))`;
};

/** How long each condition lasted. */
export function timeIn(
  before: EnvironmentCondition,
  changes: readonly Pick<ConditionChange, 'at' | 'condition'>[],
  from: number,
  until: number,
): Record<EnvironmentCondition, number> {
  const spent: Record<EnvironmentCondition, number> = { thriving: 0, stressed: 0, failing: 0, dormant: 0 };
  let [condition, since] = [before, from];
  for (const change of changes) {
    const at = Math.min(until, Math.max(from, Date.parse(change.at)));
    spent[condition] += Math.max(0, at - since);
    [condition, since] = [change.condition, at];
  }
  spent[condition] += Math.max(0, until - since);
  return spent;
}

export function conditionFigures({ spent, incidents }: ConditionOfPeriod): Figure[] {
  const awake = spent.thriving + spent.stressed + spent.failing;
  const share = (ms: number) => (awake === 0 ? null : ms / awake);
  return [
    { label: 'Time thriving', value: share(spent.thriving), unit: 'share', worse: 'lower' },
    { label: 'Time failing', value: share(spent.failing), unit: 'share', worse: 'higher' },
    { label: 'Incidents', value: incidents.length, unit: 'count', worse: 'higher' },
  ];
}

export function objectiveTable({ now }: ConditionOfPeriod): Block {
  return {
    kind: 'table',
    title: 'Objectives as of now, the nearest to its limit first',
    columns: [
      { name: 'objective', label: 'Objective', type: 'text' },
      { name: 'condition', label: 'Condition', type: 'text' },
      { name: 'value', label: 'Measured', type: 'text' },
      { name: 'stressed', label: 'Stressed beyond', type: 'text' },
      { name: 'failing', label: 'Failing beyond', type: 'text' },
      { name: 'budgetSpent', label: 'Budget spent (%)', type: 'number' },
    ],
    rows: [...(now?.objectives ?? [])]
      .sort((a, b) => (b.nearness ?? -1) - (a.nearness ?? -1))
      .map(({ title, measure, subject, condition, value, stressed, failing, budget }) => [
        title ?? `${measureWords(measure)}, ${subjectWords(subject)}`,
        condition,
        value === null ? null : valueWords(measure, value),
        valueWords(measure, stressed),
        valueWords(measure, failing),
        budget ? Math.round(budget.spent * 100) : null,
      ]),
    isCut: false,
  };
}

export function incidentTable({ incidents }: ConditionOfPeriod): Block {
  return {
    kind: 'table',
    title: 'Incidents',
    columns: [
      { name: 'openedAt', label: 'Opened', type: 'time' },
      { name: 'minutes', label: 'Minutes', type: 'number' },
      { name: 'condition', label: 'Worst', type: 'text' },
      { name: 'title', label: 'What', type: 'text' },
      { name: 'acknowledgedBy', label: 'Acknowledged by', type: 'text' },
    ],
    rows: incidents.map(({ openedAt, closedAt, condition, title, acknowledgedBy }) => [
      openedAt,
      closedAt ? Math.round((Date.parse(closedAt) - Date.parse(openedAt)) / 60_000) : null,
      condition,
      title,
      acknowledgedBy?.name ?? null,
    ]),
    isCut: false,
  };
}

const MOST_INCIDENTS = 5;

export function conditionCare({ now, incidents }: ConditionOfPeriod, place: string, zone: string): CareItem[] {
  const items: CareItem[] = [];
  if (now && (now.condition === 'failing' || now.condition === 'stressed'))
    items.push({
      weight: now.condition === 'failing' ? 100 : 60,
      text: `${place} is ${now.condition} since ${momentWords(Date.parse(now.since), zone)}`,
      link: `/${place}/condition`,
    });
  for (const { id, openedAt, closedAt, title } of incidents.slice(0, MOST_INCIDENTS)) {
    const lasted = closedAt ? `${Math.round((Date.parse(closedAt) - Date.parse(openedAt)) / 60_000)} min` : 'still open';
    items.push({
      weight: closedAt ? 70 : 90,
      text: `Incident on ${momentWords(Date.parse(openedAt), zone)} (${lasted}): ${title}`,
      link: `/${place}/incidents?open=${id}`,
    });
  }
  for (const { name, title, budget } of now?.objectives ?? [])
    if (budget && budget.spent >= 1)
      items.push({
        weight: 50,
        text: `The error budget of ${title ?? name} is spent: ${Math.round(budget.spent * 100)} %`,
        link: `/${place}/condition`,
      });
  return items;
}
