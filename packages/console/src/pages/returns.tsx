/** Who comes back: cohorts by when people came first. */
import { NativeSelect, Stack, Switch, Text } from '@mantine/core';
import { operations, type ReturnsReply } from '@orchard/contract';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Across } from '../insight/across.js';
import { COLOURS, groupWords, NarrowBar, percent, PeriodControl, TOP, SaveQuestion, useQuestion } from '../insight/question.js';
import { Loaded, PageHead } from '../parts/basics.js';
import { ChartPanel } from '../parts/chart.js';
import { count } from '../parts/format.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { TableHead } from '../parts/tableHead.js';
import { SERIES } from '../theme.js';
import { NoEvents } from './sheet.js';

export function ReturnsPage() {
  const { params, base } = useEnvironment();
  const question = useQuestion();
  const [step, setStep] = useAddressState('step', 'week');
  const [first, setFirst] = useAddressState('first');
  const [again, setAgain] = useAddressState('again');
  const [orLater, setOrLater] = useAddressState('later');
  const asked = {
    params,
    body: {
      ...question.period,
      step: step as 'week',
      ...(first ? { first: { event: first } } : {}),
      ...(again ? { again: { event: again } } : {}),
      orLater: orLater !== '',
      group: question.groups,
      top: TOP,
    },
  };
  const returns = useCall(operations.insight.returns, asked);
  const names = question.kinds.map(({ name }) => name);
  return (
    <Stack gap="lg">
      <PageHead title="Returns" hint="Who comes back, by when they came first">
        <NativeSelect
          size="xs"
          aria-label="First"
          value={first}
          onChange={({ currentTarget }) => setFirst(currentTarget.value)}
          data={[
            { value: '', label: 'From the very first use' },
            ...names.map((name) => ({ value: name, label: `From the first ${name}` })),
          ]}
        />
        <NativeSelect
          size="xs"
          aria-label="Again"
          value={again}
          onChange={({ currentTarget }) => setAgain(currentTarget.value)}
          data={[{ value: '', label: 'back with any event' }, ...names.map((name) => ({ value: name, label: `back with ${name}` }))]}
        />
        <NativeSelect
          size="xs"
          aria-label="Step"
          value={step}
          onChange={({ currentTarget }) => setStep(currentTarget.value)}
          data={['day', 'week', 'month']}
        />
        <Switch
          size="xs"
          label="In it or later"
          checked={orLater !== ''}
          onChange={({ currentTarget }) => setOrLater(currentTarget.checked ? '1' : null)}
        />
        <PeriodControl of={question} />
        <SaveQuestion of={question} source="returns" question={asked.body} />
        <FromCode calls={[coded(operations.insight.returns, asked)]} />
      </PageHead>
      <NarrowBar of={question} filterable={false} maxGroups={1} />
      <Loaded of={returns}>
        {(answer) =>
          answer.cohorts.every(({ people }) => people === 0) ? (
            <NoEvents base={base} />
          ) : (
            <>
              <Curve of={answer} by={question.groups.join(', ')} />
              <Triangle of={answer} />
            </>
          )
        }
      </Loaded>
      <Across question="returns" body={{ ...asked.body, group: [] }} />
    </Stack>
  );
}

/** The share that is back after so many steps, of all and by group. */
function Curve({ of, by }: { of: ReturnsReply; by: string }) {
  const lines = [
    { label: 'all', curve: of.curve },
    ...of.groups.map(({ group, people, curve }) => ({ label: `${groupWords(group)} (${count(people)})`, curve })),
  ];
  if (of.curve.length < 2) return null;
  return (
    <ChartPanel
      title={by ? `Back after so many ${of.step}s, by ${by}` : `Back after so many ${of.step}s`}
      unit="%"
      height={180}
      stepMs={0}
      rows={of.curve.map((_, i) => ({
        at: '',
        label: `+${i}`,
        ...Object.fromEntries(lines.map(({ curve }, n) => [`l${n}`, curve[i] === null || curve[i] === undefined ? null : 100 * curve[i]])),
      }))}
      series={lines.map(({ label }, n) => ({
        name: `l${n}`,
        label,
        color: n === 0 ? SERIES.slate : (COLOURS[(n - 1) % COLOURS.length] as string),
      }))}
    />
  );
}

const MOST_STEPS = 13;

function Triangle({ of }: { of: ReturnsReply }) {
  const steps = Math.min(MOST_STEPS, Math.max(...of.cohorts.map(({ returned }) => returned.length)));
  const heads = Array.from({ length: steps }, (_, i) => ({ right: i === 0 ? 'came' : `+${i}` }));
  const all = heads.map((_, i) => of.curve[i] ?? null);
  return (
    <section className="panel" aria-label="Returns">
      <div className="listing" style={{ borderTop: 0 }}>
        <table>
          <TableHead
            columns={[`${of.step === 'week' ? 'Week from' : of.step === 'day' ? 'Day' : 'Month from'}`, { right: 'People' }, ...heads]}
          />
          <tbody>
            <tr>
              <td>
                <b>All</b>
              </td>
              <td className="right mono">{count(of.cohorts.reduce((sum, { people }) => sum + people, 0))}</td>
              {all.map((share, i) => (
                <Cell key={heads[i]?.right} share={share} />
              ))}
            </tr>
            {of.cohorts.map(({ at, people, returned }) => (
              <tr key={at}>
                <td>{new Date(at).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', timeZone: of.zone })}</td>
                <td className="right mono">{count(people)}</td>
                {heads.map(({ right }, i) => (
                  <Cell
                    key={right}
                    share={people === 0 || i >= returned.length ? null : (returned[i] ?? 0) / people}
                    isLast={i === returned.length - 1 && i > 0}
                  />
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <Text size="sm" c="dimmed" mt="xs">
        The last figure of each row is of a {of.step} that is not over yet.
      </Text>
    </section>
  );
}

function Cell({ share, isLast = false }: { share: number | null; isLast?: boolean }) {
  if (share === null) return <td />;
  const strength = Math.round(Math.min(1, share) * 60);
  return (
    <td
      className="right mono"
      style={{ background: `color-mix(in srgb, var(--series-viridian) ${strength}%, transparent)`, opacity: isLast ? 0.6 : 1 }}
    >
      {percent(share)}
    </td>
  );
}
