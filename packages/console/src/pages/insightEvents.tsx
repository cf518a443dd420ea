/** How often something happened, how many people did it, and what a number of it comes to. */
import { Group, NativeSelect, Stack } from '@mantine/core';
import { operations } from '@orchard/contract';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Across } from '../insight/across.js';
import { AgainstChart, AgainstControl, useAgainst } from '../insight/against.js';
import { useBehind } from '../insight/behind.js';
import { COLOURS, groupWords, NarrowBar, PeriodControl, stepMsOf, TOP, SaveQuestion, useQuestion } from '../insight/question.js';
import { Loaded, PageHead } from '../parts/basics.js';
import { ChartPanel } from '../parts/chart.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { TableHead } from '../parts/tableHead.js';
import { SERIES } from '../theme.js';
import { NoEvents } from './sheet.js';

const number = (value: number | null) => (value === null ? '–' : value.toLocaleString('en-GB', { maximumFractionDigits: 1 }));
const MEASURES = { count: 'Count', people: 'People', perPerson: 'Per person' };

export function InsightEventsPage() {
  const { params, base } = useEnvironment();
  const question = useQuestion({ initialGroup: 'event' });
  const [event, setEvent] = useAddressState('event');
  const [measure, setMeasure] = useAddressState('measure', 'count');
  const numbers = question.kinds
    .filter(({ name }) => !event || name === event)
    .flatMap(({ properties }) => properties.filter(({ type }) => type === 'number').map(({ name }) => name));
  const asked = {
    params,
    body: {
      ...question.period,
      ...question.filtered,
      ...question.compared,
      ...question.stepped,
      ...(event ? { event } : {}),
      group: question.groups,
      measure,
      top: TOP,
    },
  };
  const counts = useCall(operations.insight.events, asked);
  const against = useAgainst(question);
  const behind = useBehind(counts.data?.series[0]?.steps ?? [], question.period.until, {
    ...question.filtered,
    ...(event ? { event } : {}),
  });
  return (
    <Stack gap="lg">
      <PageHead title="Events" hint="What people do, over time and by group">
        <PeriodControl of={question} comparable stepped />
        <SaveQuestion of={question} source="events" question={asked.body} />
        <FromCode calls={[coded(operations.insight.events, asked)]} />
      </PageHead>
      <Group gap="sm">
        <NativeSelect
          aria-label="Event"
          value={event}
          onChange={({ currentTarget }) => setEvent(currentTarget.value)}
          data={[{ value: '', label: 'Any event' }, ...question.kinds.map(({ name }) => name)]}
        />
        <NativeSelect
          aria-label="Measure"
          value={measure}
          onChange={({ currentTarget }) => setMeasure(currentTarget.value)}
          data={[
            ...Object.entries(MEASURES).map(([value, label]) => ({ value, label })),
            ...[...new Set(numbers)].flatMap((name) =>
              ['sum', 'mean', 'p50', 'p95'].map((of) => ({ value: `${of}:${name}`, label: `${of} of ${name}` })),
            ),
          ]}
        />
        <AgainstControl of={against} names={question.kinds.map(({ name }) => name)} />
      </Group>
      <NarrowBar of={question} />
      {behind.drawer}
      <Loaded of={counts}>
        {({ series, previous, step, groups, zone }) => {
          if (series.every(({ total }) => !total)) return <NoEvents base={base} />;
          const [first] = series;
          const before = previous && series.length === 1 ? previous[0]?.steps : undefined;
          const title = MEASURES[measure as 'count'] ?? measure.replace(':', ' of ');
          return (
            <>
              <AgainstChart of={against} first={first} label={`${title}${event ? ` of ${event}` : ''}`} step={step} zone={zone} />
              <ChartPanel
                onStep={behind.onStep}
                title={`${title} per ${step}`}
                unit="events"
                parts={measure === 'count' && series.length > 1 && !before}
                stepMs={stepMsOf(step)}
                height={280}
                zone={zone}
                rows={(first?.steps ?? []).map(({ at }, i) => ({
                  at,
                  ...Object.fromEntries(series.map(({ steps }, one) => [`s${one}`, steps[i]?.value ?? null])),
                  ...(before ? { before: before[i]?.value ?? null } : {}),
                }))}
                series={[
                  ...series.map(({ group }, i) => ({
                    name: `s${i}`,
                    label: groupWords(group),
                    color: COLOURS[i % COLOURS.length] as string,
                  })),
                  ...(before ? [{ name: 'before', label: 'period before', color: SERIES.slate }] : []),
                ]}
              />
              <section className="panel" aria-label="Totals">
                <div className="listing" style={{ borderTop: 0 }}>
                  <table>
                    <TableHead
                      columns={[question.groups.join(', ') || 'All', { right: 'Total' }, ...(previous ? [{ right: 'Before' }] : [])]}
                    />
                    <tbody>
                      {series.map(({ group, total }) => (
                        <tr key={groupWords(group)}>
                          <td>{group === 'others' ? `${groups - series.length + 1} others` : groupWords(group)}</td>
                          <td className="right mono">{number(total)}</td>
                          {previous && (
                            <td className="right mono">
                              {number(previous.find((one) => String(one.group) === String(group))?.total ?? null)}
                            </td>
                          )}
                        </tr>
                      ))}
                    </tbody>
                  </table>
                </div>
              </section>
            </>
          );
        }}
      </Loaded>
      <Across question="events" body={{ ...question.period, ...question.filtered, ...(event ? { event } : {}), measure }} />
    </Stack>
  );
}
