/** Who is new, and who is there; groups can be set beside each other from their own first day. */
import { SimpleGrid, Stack, Switch } from '@mantine/core';
import { type ArrivalsReply, operations } from '@orchard/contract';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Across } from '../insight/across.js';
import { useBehind } from '../insight/behind.js';
import { Figure } from '../insight/figure.js';
import { COLOURS, groupWords, NarrowBar, PeriodControl, stepMsOf, TOP, useQuestion } from '../insight/question.js';
import { Loaded, PageHead } from '../parts/basics.js';
import { ChartPanel } from '../parts/chart.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { SERIES } from '../theme.js';
import { NoEvents } from './sheet.js';

export function ArrivalsPage() {
  const { params, base } = useEnvironment();
  const question = useQuestion({ initialGroup: 'platform' });
  const [aligned, setAligned] = useAddressState('aligned');
  const asked = {
    params,
    body: { ...question.period, ...question.filtered, ...question.compared, ...question.stepped, group: question.groups, top: TOP },
  };
  const arrivals = useCall(operations.insight.arrivals, asked);
  const behind = useBehind(arrivals.data?.steps ?? [], question.period.until, question.filtered);
  return (
    <Stack gap="lg">
      <PageHead title="Arrivals" hint="Who is new, and who is there">
        <PeriodControl of={question} comparable stepped />
        <FromCode calls={[coded(operations.insight.arrivals, asked)]} />
      </PageHead>
      <NarrowBar of={question} />
      {behind.drawer}
      <Loaded of={arrivals}>
        {(answer) =>
          answer.active === 0 ? (
            <NoEvents base={base} />
          ) : (
            <>
              <SimpleGrid cols={{ base: 2, md: 5 }}>
                <Figure
                  of={{ label: 'New people', value: answer.total, before: answer.previous?.total, unit: 'count', worse: 'lower' }}
                  how="Their first event of all lies in the period."
                />
                <Figure
                  of={{ label: 'People in all', value: answer.before + answer.total, unit: 'count', worse: null }}
                  how="Everybody who came up to the end of the period."
                />
                <Figure
                  of={{ label: 'Active people', value: answer.active, before: answer.previous?.active, unit: 'count', worse: 'lower' }}
                  how="At least one event in the period."
                />
                <Figure
                  of={{ label: 'Active, last day', value: answer.activity.day, unit: 'count', worse: null }}
                  how={`${answer.activity.week} in the last 7 days, ${answer.activity.month} in the last 28.`}
                />
                <Figure
                  of={{ label: 'Day to 28 days', value: answer.activity.ratio, unit: 'share', worse: 'lower' }}
                  how="Active people of the last day as a share of those of the last 28 days: how often people come."
                />
              </SimpleGrid>
              <SimpleGrid cols={{ base: 1, lg: 2 }} spacing="xl">
                <ChartPanel
                  zone={answer.zone}
                  onStep={behind.onStep}
                  title={`Active and new people per ${answer.step}`}
                  unit="people"
                  stepMs={stepMsOf(answer.step)}
                  rows={answer.steps.map(({ at, new: fresh, active }) => ({ at, fresh, active }))}
                  series={[
                    { name: 'active', label: 'active', color: SERIES.viridian },
                    { name: 'fresh', label: 'new', color: SERIES.persimmon },
                  ]}
                />
                <div>
                  <ByGroup of={answer} aligned={aligned !== ''} by={question.groups.join(', ')} />
                  <Switch
                    mt="xs"
                    size="xs"
                    label="From each group’s own first day"
                    checked={aligned !== ''}
                    onChange={({ currentTarget }) => setAligned(currentTarget.checked ? '1' : null)}
                  />
                </div>
              </SimpleGrid>
            </>
          )
        }
      </Loaded>
      <Across question="arrivals" body={{ ...question.period, ...question.filtered }} />
    </Stack>
  );
}

/** New people by group, as sums from the first step on. */
function ByGroup({ of, aligned, by }: { of: ArrivalsReply; aligned: boolean; by: string }) {
  if (of.groups.length === 0) return null;
  const starts = of.groups.map(({ since }) =>
    aligned
      ? Math.max(
          0,
          of.steps.findIndex(({ at }) => at === since),
        )
      : 0,
  );
  const sums = of.groups.map(({ steps }, i) => {
    let sum = 0;
    return steps.slice(starts[i]).map((count) => (sum += count));
  });
  return (
    <ChartPanel
      zone={of.zone}
      title={aligned ? `New people by ${by}, each from its first ${of.step}` : `New people by ${by}, in all`}
      unit="people"
      stepMs={stepMsOf(of.step)}
      rows={of.steps.map(({ at }, step) => ({ at, ...Object.fromEntries(sums.map((values, i) => [`g${i}`, values[step] ?? null])) }))}
      series={of.groups.map(({ group, total }, i) => ({
        name: `g${i}`,
        label: `${groupWords(group)} (${total})`,
        color: COLOURS[i % COLOURS.length] as string,
      }))}
    />
  );
}
