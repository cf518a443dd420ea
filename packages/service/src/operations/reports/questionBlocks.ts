/** Saved questions about people, as blocks of a report. */
import { type AnyOperation, type NewReport, operations, Problem } from '@orchard/contract';
import { type Block, SERIES_COLOURS } from '@orchard/core';
import { problemsOf } from '@orchard/contract/inputProblems';
import { type Ask, inIso, type Period } from './asking.js';

const own = operations.insight;
const QUESTIONS = { events: own.events, visits: own.visits, funnel: own.funnel, returns: own.returns } satisfies Record<
  string,
  AnyOperation
>;
type QuestionSource = keyof typeof QUESTIONS;
type Settings = Omit<NewReport, 'name'>;

const STEP_MS = { hour: 3_600_000, day: 86_400_000, week: 7 * 86_400_000, month: 30 * 86_400_000 };
const MOST_COHORTS = 13;

export const isQuestion = (source: string): source is QuestionSource => Object.hasOwn(QUESTIONS, source);

/** @throws {Problem} invalid-input for a question that is none of its source */
export function demandQuestion({ source, question }: Pick<Settings, 'source' | 'question'>): void {
  if (!isQuestion(source)) {
    if (question === undefined) return;
    throw new Problem('invalid-input', `\`question\` is not of ${source}.`, {
      fields: [
        {
          path: 'body.question',
          problem: 'It does not belong here.',
          expected: `no question, or one of the sources ${Object.keys(QUESTIONS).join(', ')}`,
        },
      ],
    });
  }
  const { body } = QUESTIONS[source];
  const fields = body === undefined ? [] : problemsOf(body, question ?? {}, 'body.question');
  if (fields[0]) throw new Problem('invalid-input', `\`${fields[0].path}\`: ${fields[0].problem}`, { fields });
}

/** @throws {Problem} malformed-filter */
export function questionBlocks(ask: Ask, { source, question = {} }: Settings, period: Period): Promise<Block[]> {
  const body = { ...question, ...inIso(period), zone: period.zone };
  switch (source as QuestionSource) {
    case 'events':
      return eventBlocks(ask, body);
    case 'visits':
      return visitBlocks(ask, body);
    case 'funnel':
      return funnelBlocks(ask, body);
    case 'returns':
      return returnBlocks(ask, body);
  }
}

type Body = { from: string };
const wordsOf = (group: (string | null)[] | 'others'): string =>
  group === 'others' ? 'others' : group.length === 0 ? 'all' : group.map((value) => value ?? '(none)').join(', ');
const percent = (share: number | null | undefined): string | null =>
  share === null || share === undefined ? null : `${(share * 100).toLocaleString('en-GB', { maximumFractionDigits: 1 })} %`;

async function eventBlocks(ask: Ask, body: Body): Promise<Block[]> {
  const { series, step } = await ask(own.events, { body });
  const shown = series.slice(0, SERIES_COLOURS.length);
  return [
    {
      kind: 'chart',
      title: `Events per ${step}`,
      unit: 'events',
      stepMs: STEP_MS[step],
      draw: 'line',
      from: Date.parse(shown[0]?.steps[0]?.at ?? body.from),
      series: shown.map(({ group, steps }, i) => ({
        label: wordsOf(group),
        colour: SERIES_COLOURS[i] ?? 'slate',
        values: steps.map(({ value }) => value),
      })),
    },
    {
      kind: 'table',
      title: 'By group',
      columns: [
        { name: 'group', label: 'Group', type: 'text' },
        { name: 'total', label: 'Total', type: 'number' },
      ],
      rows: series.map(({ group, total }) => [wordsOf(group), total]),
      isCut: false,
    },
  ];
}

async function visitBlocks(ask: Ask, body: Body): Promise<Block[]> {
  const { total, previous, steps, step } = await ask(own.visits, { body: { ...body, compare: 'previous' } });
  return [
    {
      kind: 'figures',
      title: 'Visits',
      items: [
        { label: 'Visits', value: total.visits, before: previous?.visits ?? null, unit: 'count', worse: 'lower' },
        { label: 'People', value: total.people, before: previous?.people ?? null, unit: 'count', worse: 'lower' },
        { label: 'Median visit', value: total.medianMs, before: previous?.medianMs ?? null, unit: 'ms', worse: null },
      ],
    },
    {
      kind: 'chart',
      title: `Visits per ${step}`,
      unit: 'visits',
      stepMs: STEP_MS[step],
      draw: 'bar',
      from: Date.parse(steps[0]?.at ?? body.from),
      series: [{ label: 'visits', colour: 'viridian', values: steps.map(({ visits }) => visits) }],
    },
  ];
}

async function funnelBlocks(ask: Ask, body: Body): Promise<Block[]> {
  const { steps, groups, trend, trendStep } = await ask(own.funnel, { body });
  const rows = [{ group: [] as (string | null)[] | 'others', steps }, ...groups].flatMap((one) =>
    one.steps.map((step) => ({ group: wordsOf(one.group), ...step })),
  );
  return [
    {
      kind: 'table',
      title: 'Steps',
      columns: [
        { name: 'group', label: 'Group', type: 'text' },
        { name: 'event', label: 'Step', type: 'text' },
        { name: 'people', label: 'People', type: 'number' },
        { name: 'ofFirst', label: 'Of the first', type: 'text' },
        { name: 'ofPrevious', label: 'Of the one before', type: 'text' },
        { name: 'medianS', label: 'Median seconds since', type: 'number' },
      ],
      rows: rows.map(({ group, event, people, ofFirst, ofPrevious, medianMs }) => [
        group,
        event,
        people,
        percent(ofFirst),
        percent(ofPrevious),
        medianMs === null ? null : Math.round(medianMs / 1000),
      ]),
      isCut: false,
    },
    {
      kind: 'chart',
      title: `Got through, by ${trendStep} of the first step`,
      unit: '%',
      stepMs: STEP_MS[trendStep],
      draw: 'line',
      from: Date.parse(trend[0]?.at ?? body.from),
      series: [
        {
          label: 'of those who began',
          colour: 'viridian',
          values: trend.map(({ people, through }) => (people === 0 ? null : (100 * through) / people)),
        },
      ],
    },
  ];
}

async function returnBlocks(ask: Ask, body: Body): Promise<Block[]> {
  const { cohorts, step, curve } = await ask(own.returns, { body });
  const most = Math.min(MOST_COHORTS, Math.max(0, ...cohorts.map(({ returned }) => returned.length)));
  const later = Array.from({ length: most }, (_, i) => i).slice(1);
  return [
    {
      kind: 'table',
      title: `Back after so many ${step}s`,
      columns: [
        { name: 'from', label: 'From', type: 'text' },
        { name: 'people', label: 'People', type: 'number' },
        ...later.map((i) => ({ name: `later${i}`, label: `+${i}`, type: 'text' as const })),
      ],
      rows: [
        ['all', cohorts.reduce((sum, { people }) => sum + people, 0), ...later.map((i) => percent(curve[i]))],
        ...cohorts.map(({ at, people, returned }) => [
          at.slice(0, 10),
          people,
          ...later.map((i) => (people === 0 || i >= returned.length ? null : percent((returned[i] ?? 0) / people))),
        ]),
      ],
      isCut: false,
    },
  ];
}
