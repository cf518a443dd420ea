/** The question of a page asked of other environments, too: their answers side by side. */
import { MultiSelect, Text } from '@mantine/core';
import {
  type AcrossReply,
  type ArrivalsReply,
  type EventCounts,
  type FunnelReply,
  operations,
  type PathNode,
  type PathsReply,
  type ReturnsReply,
  type SharedQuestion,
  type VisitsReply,
} from '@orchard/contract';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Loaded } from '../parts/basics.js';
import { ChartPanel } from '../parts/chart.js';
import { count } from '../parts/format.js';
import { TableHead } from '../parts/tableHead.js';
import { COLOURS, percent, span, stepMsOf } from './question.js';

type Line = { cells: (string | number)[]; steps?: { at: string; value: number | null }[]; step?: EventCounts['step']; zone?: string };
type Reading = { columns: string[]; unit: string; line: (answer: never) => Line };
const number = (value: number | null) => (value === null ? '–' : value.toLocaleString('en-GB', { maximumFractionDigits: 1 }));

/** What each question shows of one environment: a row, and where it runs over time a line of a chart. */
const READINGS: Record<SharedQuestion, Reading> = {
  events: {
    columns: ['Total'],
    unit: 'events',
    line: ({ series: [only], step, zone }: EventCounts) => ({ cells: [number(only?.total ?? null)], steps: only?.steps ?? [], step, zone }),
  },
  arrivals: {
    columns: ['New people', 'Active people', 'Day to 28 days'],
    unit: 'people',
    line: ({ total, active, activity, steps, step, zone }: ArrivalsReply) => ({
      cells: [count(total), count(active), percent(activity.ratio)],
      steps: steps.map((one) => ({ at: one.at, value: one.active })),
      step,
      zone,
    }),
  },
  visits: {
    columns: ['Visits', 'People', 'A person', 'Median', 'Mean'],
    unit: 'visits',
    line: ({ total, steps, step, zone }: VisitsReply) => ({
      cells: [count(total.visits), count(total.people), number(total.perPerson), span(total.medianMs), span(total.meanMs)],
      steps: steps.map(({ at, visits }) => ({ at, value: visits })),
      step,
      zone,
    }),
  },
  funnel: {
    columns: ['Began', 'Got through', 'Share'],
    unit: '%',
    line: ({ steps }: FunnelReply) => {
      const [first, last] = [steps[0], steps.at(-1)];
      return { cells: [count(first?.people ?? 0), count(last?.people ?? 0), percent(last?.ofFirst ?? null)] };
    },
  },
  returns: {
    columns: ['People', 'After 1', 'After 2', 'After 3', 'After 4'],
    unit: '%',
    line: ({ cohorts, curve }: ReturnsReply) => ({
      cells: [count(cohorts.reduce((sum, { people }) => sum + people, 0)), ...[1, 2, 3, 4].map((after) => percent(curve[after] ?? null))],
    }),
  },
  paths: {
    columns: ['Visits', 'Most often', 'Second', 'Third'],
    unit: 'visits',
    line: ({ total, next }: PathsReply) => ({ cells: [count(total), ...[0, 1, 2].map((place) => stepWords(next[place], total))] }),
  },
};

/** One step of a path with its share of the visits. */
function stepWords(node: PathNode | undefined, total: number): string {
  if (!node) return '–';
  return `${node.event === null ? 'rarer ones' : node.event || 'nothing else'} ${percent(node.count / total)}`;
}

type Props = { question: keyof typeof READINGS; body: Record<string, unknown> };

/** @param body the question without groups: each environment is a line of its own */
export function Across({ question, body }: Props) {
  const { params } = useEnvironment();
  const [chosen, setChosen] = useAddressState('beside');
  const here = `${params.app}/${params.environment}`;
  const visible = useCall(operations.condition.read, {});
  const others = (visible.data?.items ?? []).map(({ app, environment }) => `${app}/${environment}`).filter((name) => name !== here);
  const beside = chosen ? chosen.split(',') : [];
  const answers = useCall(
    operations.insight.across,
    { body: { question, environments: [here, ...beside], body } },
    { enabled: beside.length > 0 },
  );
  if (others.length === 0) return null;
  return (
    <section className="panel" aria-label="Beside other environments">
      <MultiSelect
        size="sm"
        w={360}
        label="Beside other environments"
        placeholder={beside.length === 0 ? 'Choose' : ''}
        data={others}
        value={beside}
        onChange={(names) => setChosen(names.join(',') || null)}
        clearable
        searchable
      />
      {beside.length > 0 && <Loaded of={answers}>{({ items }) => <Answers of={items} reading={READINGS[question]} />}</Loaded>}
    </section>
  );
}

function Answers({ of, reading }: { of: AcrossReply['items']; reading: Reading }) {
  const lines = of.map(({ app, environment, answer, refused }) => ({
    name: `${app}/${environment}`,
    refused,
    ...(answer === null ? { cells: [] } : reading.line(answer as never)),
  })) as (Line & { name: string; refused: string | null })[];
  const drawn = lines.filter(({ steps }) => steps && steps.length > 0);
  const [first] = drawn;
  return (
    <>
      {first?.steps && first.step && (
        <ChartPanel
          title={`Per ${first.step}, by environment`}
          unit={reading.unit}
          stepMs={stepMsOf(first.step)}
          zone={first.zone}
          rows={first.steps.map(({ at }, i) => ({
            at,
            ...Object.fromEntries(drawn.map(({ steps }, one) => [`e${one}`, steps?.[i]?.value ?? null])),
          }))}
          series={drawn.map(({ name }, i) => ({ name: `e${i}`, label: name, color: COLOURS[i % COLOURS.length] as string }))}
        />
      )}
      <div className="listing" style={{ borderTop: 0 }}>
        <table>
          <TableHead columns={['Environment', ...reading.columns.map((right) => ({ right }))]} />
          <tbody>
            {lines.map(({ name, cells, refused }) => (
              <tr key={name}>
                <td>{name}</td>
                {refused === null ? (
                  cells.map((cell, i) => (
                    <td key={reading.columns[i]} className="right mono">
                      {cell}
                    </td>
                  ))
                ) : (
                  <td colSpan={reading.columns.length}>
                    <Text size="sm">{refused}</Text>
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
