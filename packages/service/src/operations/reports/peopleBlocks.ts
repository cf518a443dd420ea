/** Who uses the apps, as blocks of a report. */
import { operations } from '@orchard/contract';
import type { Block, Figure } from '@orchard/core';
import { type Ask, inIso, type Period } from './asking.js';

const DAY_MS = 86_400_000;
const MOST_EVENTS = 12;

/** Figures, a chart of each day, and the events with their change; nothing where no event has ever come. */
export async function peopleBlocks(ask: Ask, period: Period): Promise<Block[]> {
  const body = { ...inIso(period), zone: period.zone, step: 'day', compare: 'previous' };
  const [arrivals, visits, events] = await Promise.all([
    ask(operations.insight.arrivals, { body }),
    ask(operations.insight.visits, { body }),
    ask(operations.insight.events, { body: { ...body, group: ['event'], top: MOST_EVENTS } }),
  ]);
  if (arrivals.active === 0 && (arrivals.previous?.active ?? 0) === 0) return [];
  const figures: Figure[] = [
    { label: 'Active people', value: arrivals.active, before: arrivals.previous?.active ?? null, unit: 'count', worse: 'lower' },
    { label: 'New people', value: arrivals.total, before: arrivals.previous?.total ?? null, unit: 'count', worse: 'lower' },
    { label: 'Visits', value: visits.total.visits, before: visits.previous?.visits ?? null, unit: 'count', worse: 'lower' },
    { label: 'Median visit', value: visits.total.medianMs, before: visits.previous?.medianMs ?? null, unit: 'ms', worse: null },
  ];
  const [first] = arrivals.steps;
  const before = new Map(events.previous?.map(({ group, total }) => [String(group), total]));
  return [
    { kind: 'figures', title: 'People', items: figures },
    {
      kind: 'chart',
      title: 'People a day',
      unit: 'people',
      stepMs: DAY_MS,
      draw: 'line',
      from: Date.parse(first?.at ?? inIso(period).from),
      series: [
        { label: 'active', colour: 'viridian', values: arrivals.steps.map(({ active }) => active) },
        { label: 'new', colour: 'persimmon', values: arrivals.steps.map(({ new: fresh }) => fresh) },
      ],
    },
    {
      kind: 'table',
      title: 'What people did',
      columns: [
        { name: 'event', label: 'Event', type: 'text' },
        { name: 'count', label: 'Count', type: 'number' },
        { name: 'before', label: 'Before', type: 'number' },
      ],
      rows: events.series.map(({ group, total }) => [
        group === 'others' ? 'others' : (group[0] ?? ''),
        total,
        before.get(String(group)) ?? null,
      ]),
      isCut: false,
    },
  ];
}
