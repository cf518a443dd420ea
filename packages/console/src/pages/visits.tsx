/** Visits: how many, how long, and by what. */
import { SimpleGrid, Stack, Title } from '@mantine/core';
import { operations, type VisitsReply } from '@orchard/contract';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Across } from '../insight/across.js';
import { useBehind } from '../insight/behind.js';
import { Figure } from '../insight/figure.js';
import { groupWords, NarrowBar, PeriodControl, span, stepMsOf, SaveQuestion, useQuestion } from '../insight/question.js';
import { Loaded, PageHead } from '../parts/basics.js';
import { ChartPanel } from '../parts/chart.js';
import { count } from '../parts/format.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { TableHead } from '../parts/tableHead.js';
import { SERIES } from '../theme.js';
import { NoEvents } from './sheet.js';

export function VisitsPage() {
  const { params, base } = useEnvironment();
  const question = useQuestion({ initialGroup: 'version' });
  const asked = {
    params,
    body: { ...question.period, ...question.filtered, ...question.compared, ...question.stepped, group: question.groups },
  };
  const visits = useCall(operations.insight.visits, asked);
  const behind = useBehind(visits.data?.steps ?? [], question.period.until, question.filtered);
  return (
    <Stack gap="lg">
      <PageHead title="Visits" hint="Stretches of use; one ends after a silence, or as the app says">
        <PeriodControl of={question} comparable stepped />
        <SaveQuestion of={question} source="visits" question={asked.body} />
        <FromCode calls={[coded(operations.insight.visits, asked)]} />
      </PageHead>
      <NarrowBar of={question} />
      {behind.drawer}
      <Loaded of={visits}>
        {(answer) => {
          const { total, previous, steps, step } = answer;
          if (total.visits === 0) return <NoEvents base={base} />;
          return (
            <>
              <SimpleGrid cols={{ base: 2, md: 5 }}>
                <Figure
                  of={{ label: 'Visits', value: total.visits, before: previous?.visits, unit: 'count', worse: 'lower' }}
                  how="A visit counts in the step of its first event."
                />
                <Figure
                  of={{ label: 'A person', value: total.perPerson, before: previous?.perPerson, unit: 'count', worse: 'lower' }}
                  how="Visits of the period, by people with at least one."
                />
                <Figure
                  of={{ label: 'Median', value: total.medianMs, before: previous?.medianMs, unit: 'ms', worse: null }}
                  how="Half of all visits are shorter. From the first event to the last."
                  text={span(total.medianMs)}
                />
                <Figure
                  of={{ label: 'Mean', value: total.meanMs, before: previous?.meanMs, unit: 'ms', worse: null }}
                  how="From the first event to the last."
                  text={span(total.meanMs)}
                />
                <Figure
                  of={{ label: 'Events a visit', value: total.meanEvents, before: previous?.meanEvents, unit: 'count', worse: null }}
                  how="The mean over all visits."
                />
              </SimpleGrid>
              <SimpleGrid cols={{ base: 1, lg: 2 }} spacing="xl">
                <ChartPanel
                  zone={answer.zone}
                  onStep={behind.onStep}
                  title={`Visits per ${step}`}
                  unit="visits"
                  stepMs={stepMsOf(step)}
                  kind="bar"
                  rows={steps.map(({ at, visits: number }) => ({ at, visits: number }))}
                  series={[{ name: 'visits', label: 'visits', color: SERIES.viridian }]}
                />
                <Lengths of={answer} />
              </SimpleGrid>
              <Groups of={answer} by={question.groups.join(', ')} />
            </>
          );
        }}
      </Loaded>
      <Across question="visits" body={{ ...question.period, ...question.filtered }} />
    </Stack>
  );
}

function Lengths({ of }: { of: VisitsReply }) {
  const most = Math.max(1, ...of.lengths.map(({ visits }) => visits));
  return (
    <section className="panel" aria-label="Visits by length">
      <Title order={2} mb="xs">
        Visits by length
      </Title>
      <table className="plain" style={{ width: '100%' }}>
        <tbody>
          {of.lengths.map(({ upToMs, visits }, i) => (
            <tr key={upToMs ?? 'longer'}>
              <td style={{ width: '8rem' }}>
                {upToMs === null ? `over ${span(of.lengths[i - 1]?.upToMs ?? 0)}` : `up to ${span(upToMs)}`}
              </td>
              <td className="right mono" style={{ width: '5rem' }}>
                {count(visits)}
              </td>
              <td>
                <div className="share">
                  <i style={{ width: `${(visits / most) * 100}%`, background: SERIES.viridian }} />
                </div>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Groups({ of, by }: { of: VisitsReply; by: string }) {
  if (of.groups.length === 0) return null;
  return (
    <section className="panel" aria-label="By group">
      <Title order={2} mb="xs">
        By {by}
      </Title>
      <div className="listing" style={{ borderTop: 0 }}>
        <table>
          <TableHead
            columns={[
              by,
              { right: 'Visits' },
              { right: 'People' },
              { right: 'A person' },
              { right: 'Median' },
              { right: 'Mean' },
              { right: 'p95' },
              { right: 'Events' },
            ]}
          />
          <tbody>
            {of.groups.map(({ group, figures }) => (
              <tr key={groupWords(group)}>
                <td>{groupWords(group)}</td>
                <td className="right mono">{count(figures.visits)}</td>
                <td className="right mono">{count(figures.people)}</td>
                <td className="right mono">{figures.perPerson?.toFixed(2)}</td>
                <td className="right mono">{span(figures.medianMs)}</td>
                <td className="right mono">{span(figures.meanMs)}</td>
                <td className="right mono">{span(figures.p95Ms)}</td>
                <td className="right mono">{figures.meanEvents?.toFixed(1)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
