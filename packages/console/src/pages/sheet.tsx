/** The sheet of an environment: what changed most, then people and visits beside the service’s latency and failures. */
import { Anchor, Group, SimpleGrid, Stack, Text, Title } from '@mantine/core';
import { operations } from '@orchard/contract';
import { largestChanges, type Watched } from '@orchard/core/insight';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { DateNotes } from '../insight/dateNotes.js';
import { useBehind } from '../insight/behind.js';
import { callsByDay, meanOf } from '../insight/byDay.js';
import { Figure } from '../insight/figure.js';
import { PeriodControl, span, useQuestion } from '../insight/question.js';
import { SheetTabs } from '../insight/sheetTabs.js';
import { Empty, Loaded, PageHead } from '../parts/basics.js';
import { ChartPanel } from '../parts/chart.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { SaveReport } from '../parts/saveReport.js';
import { SERIES } from '../theme.js';

const own = operations.insight;
const DAY_MS = 86_400_000;
const EVENT = 'The event ';

export function SheetPage() {
  const { params, base } = useEnvironment();
  const question = useQuestion();
  const body = { ...question.period, compare: 'previous' as const, step: 'day' as const };
  const arrivals = useCall(own.arrivals, { params, body });
  const visits = useCall(own.visits, { params, body });
  const kinds = useCall(own.events, { params, body: { ...question.period, group: ['event'], compare: 'previous', top: 12 } });
  const usage = useCall(operations.telemetry.usage, { params, query: { ...question.period, compare: 'previous' } });
  const behind = useBehind(arrivals.data?.steps ?? [], question.period.until, {});
  return (
    <Stack gap="lg">
      <SheetTabs />
      <PageHead title="Sheet" hint={`${params.app} / ${params.environment}: who uses it, and how they get on`}>
        <PeriodControl of={question} />
        <DateNotes />
        <SaveReport of={{ source: 'people' }} period="four-weeks" />
        <FromCode calls={[coded(own.arrivals, { params, body }), coded(own.visits, { params, body })]} />
      </PageHead>
      <Loaded of={arrivals}>
        {(came) => {
          if (came.active === 0) return <NoEvents base={base} />;
          const seen = visits.data;
          const calls = usage.data;
          const days = came.steps.map(({ at }) => at);
          const callsOf = callsByDay(days, calls?.steps ?? []);
          // Today is not over: it would pull the means down.
          const over = came.steps.filter(({ at }) => Date.parse(at) + DAY_MS <= Date.parse(question.period.until));
          const figures: Watched[] = [
            { label: 'New people', value: came.total, before: came.previous?.total, unit: 'count', worse: 'lower', least: 20 },
            { label: 'Active people', value: came.active, before: came.previous?.active, unit: 'count', worse: 'lower', least: 20 },
            {
              label: 'Visits',
              value: seen?.total.visits ?? null,
              before: seen?.previous?.visits,
              unit: 'count',
              worse: 'lower',
              least: 20,
            },
            { label: 'The median visit', value: seen?.total.medianMs ?? null, before: seen?.previous?.medianMs, unit: 'ms', worse: null },
            { label: 'p95 latency', value: calls?.total.p95Ms ?? null, before: calls?.previous?.total.p95Ms, unit: 'ms', worse: 'higher' },
          ];
          const events = (kinds.data?.series ?? []).flatMap(({ group, total }): Watched[] => {
            const before = kinds.data?.previous?.find((one) => String(one.group) === String(group))?.total ?? 0;
            return group === 'others'
              ? []
              : [{ label: `${EVENT}${group[0]}`, value: total, before, unit: 'count', worse: null, least: 40 }];
          });
          return (
            <>
              <Changes of={largestChanges([...figures, ...events])} base={base} days={question.days} />
              <SimpleGrid cols={{ base: 2, md: 5 }}>
                <Figure
                  of={figures[0] as Watched}
                  how="People whose first event of all lies in the period. A person is a user, or a device nobody has signed in on."
                  aDay={meanOf(over.map((day) => day.new))}
                />
                <Figure
                  of={figures[1] as Watched}
                  how="People with at least one event in the period. A day counts each person once; who comes on several days counts on each."
                  aDay={meanOf(over.map(({ active }) => active))}
                />
                <Figure
                  of={{ label: 'Active a day / 28 days', value: came.activity.ratio, unit: 'share', worse: 'lower' }}
                  how={`${came.activity.day} people in the last day, ${came.activity.week} in 7 days, ${came.activity.month} in 28 days.`}
                />
                <Figure
                  of={figures[2] as Watched}
                  how="Stretches of use; one ends after half an hour of silence, or as the app says."
                  aDay={meanOf((seen?.steps ?? []).slice(0, over.length).map((day) => day.visits))}
                />
                <Figure of={figures[3] as Watched} how="Half of all visits are shorter." text={span(seen?.total.medianMs ?? null)} />
              </SimpleGrid>
              {/* One below the other with the same days: growth and slowness are seen together. */}
              <Stack gap="md">
                <ChartPanel
                  zone={came.zone}
                  title="People and visits a day"
                  unit="people"
                  stepMs={DAY_MS}
                  height={180}
                  hoverGroup="sheet"
                  onStep={behind.onStep}
                  rows={came.steps.map(({ at, active, new: fresh }, i) => ({ at, active, fresh, visits: seen?.steps[i]?.visits ?? null }))}
                  series={[
                    { name: 'visits', label: 'visits (right axis)', color: SERIES.plum, axis: 'right' },
                    { name: 'active', label: 'active people', color: SERIES.viridian },
                    { name: 'fresh', label: 'new people', color: SERIES.persimmon },
                  ]}
                />
                <ChartPanel
                  zone={came.zone}
                  title="Latency and failures a day"
                  unit="ms"
                  stepMs={DAY_MS}
                  height={180}
                  hoverGroup="sheet"
                  rows={days.map((at, i) => ({ at, ...callsOf[i] }))}
                  series={[
                    { name: 'p95', label: 'highest p95 of the day', color: SERIES.honey },
                    { name: 'failed', label: 'failed calls (right axis)', color: SERIES.persimmon, axis: 'right' },
                  ]}
                />
              </Stack>
              {behind.drawer}
              <Group gap="lg">
                <Anchor component={Link} to={`${base}/where`} size="sm">
                  Where people are, on a map
                </Anchor>
                <Anchor component={Link} to={`${base}/api-use?by=feature&range=30d`} size="sm">
                  API use by feature
                </Anchor>
              </Group>
            </>
          );
        }}
      </Loaded>
    </Stack>
  );
}

function Changes({ of, base, days }: { of: ReturnType<typeof largestChanges>; base: string; days: number }) {
  const linkOf = (label: string) => {
    if (label.startsWith(EVENT))
      return `${base}/insight-events?event=${encodeURIComponent(label.slice(EVENT.length))}&compare=1&range=${days}d`;
    if (label.startsWith('p95')) return `${base}/api-use?compare=1&range=${days === 28 ? 30 : days}d`;
    return `${base}/${label.includes('isit') ? 'visits' : 'arrivals'}?compare=1&range=${days}d`;
  };
  return (
    <section className="panel" aria-label="What changed most" style={{ borderTop: 0 }}>
      <Title order={2} mb={4}>
        What changed most against the {days} days before
      </Title>
      {of.length === 0 ? (
        <Text>Nothing by more than 8 %.</Text>
      ) : (
        <ul style={{ margin: 0, paddingLeft: '1.1rem' }}>
          {of.map(({ label, text, isWorse }) => (
            <li key={label}>
              <Anchor component={Link} to={linkOf(label)} c={isWorse ? 'var(--care)' : undefined}>
                {text}
              </Anchor>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

export function NoEvents({ base }: { base: string }) {
  return (
    <Empty title="No events in this period">
      <Text>
        The client library sends them: <code>orchard.events(device).track('booking_sent', {'{ nights: 2 }'})</code>. An app that sends and
        is not seen here finds the reason under{' '}
        <Anchor component={Link} to={`${base}/event-plan?tab=refused`}>
          Event plan, Refused
        </Anchor>
        .
      </Text>
    </Empty>
  );
}
