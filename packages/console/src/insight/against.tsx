/** A second measure beside that of a page: on one time axis, or the first as a ratio of it. */
import { NativeSelect, Switch } from '@mantine/core';
import { type EventCounts, operations } from '@orchard/contract';
import { useCall } from '../api.js';
import { useAddressState } from '../environment.js';
import { ChartPanel } from '../parts/chart.js';
import { SERIES } from '../theme.js';
import { type Question, stepMsOf } from './question.js';

const WHOLE = { visits: 'Visits', new: 'New people', active: 'Active people' } as const;
const EVENT = 'event ';
type Values = { at: string; value: number | null }[];

/** @returns the second measure by step; null while none is chosen or it is on its way */
export function useAgainst({ params, period, filtered }: Question) {
  const [chosen, setChosen] = useAddressState('against');
  const [ratio, setRatio] = useAddressState('ratio');
  const body = { ...period, ...filtered };
  const visits = useCall(operations.insight.visits, { params, body }, { enabled: chosen === 'visits' });
  const arrivals = useCall(operations.insight.arrivals, { params, body }, { enabled: chosen === 'new' || chosen === 'active' });
  const event = chosen.startsWith(EVENT) ? chosen.slice(EVENT.length) : '';
  const events = useCall(operations.insight.events, { params, body: { ...body, event } }, { enabled: event !== '' });
  const values: Values | undefined = event
    ? (events.data?.series[0]?.steps ?? [])
    : chosen === 'visits'
      ? visits.data?.steps.map(({ at, visits: value }) => ({ at, value }))
      : arrivals.data?.steps.map((step) => ({ at: step.at, value: chosen === 'new' ? step.new : step.active }));
  return {
    chosen,
    setChosen,
    isRatio: ratio !== '',
    setRatio: (on: boolean) => setRatio(on ? '1' : null),
    label: event || (WHOLE[chosen as keyof typeof WHOLE] ?? '').toLowerCase(),
    values: chosen ? (values ?? null) : null,
  };
}
type Against = ReturnType<typeof useAgainst>;

export function AgainstControl({ of, names }: { of: Against; names: string[] }) {
  return (
    <>
      <NativeSelect
        aria-label="Against"
        value={of.chosen}
        onChange={({ currentTarget }) => of.setChosen(currentTarget.value || null)}
        data={[
          { value: '', label: 'Against nothing' },
          ...Object.entries(WHOLE).map(([value, label]) => ({ value, label: `Against ${label.toLowerCase()}` })),
          ...names.map((name) => ({ value: EVENT + name, label: `Against ${name}` })),
        ]}
      />
      {of.chosen && <Switch label="As a ratio" checked={of.isRatio} onChange={({ currentTarget }) => of.setRatio(currentTarget.checked)} />}
    </>
  );
}

type Props = { of: Against; first: EventCounts['series'][number] | undefined; label: string; step: EventCounts['step']; zone: string };

export function AgainstChart({ of, first, label, step, zone }: Props) {
  if (!of.values || !first) return null;
  const second = new Map(of.values.map(({ at, value }) => [at, value]));
  const common = { stepMs: stepMsOf(step), zone };
  const rows = first.steps.map(({ at, value }) => ({ at, first: value, second: second.get(at) ?? null }));
  if (of.isRatio)
    return (
      <ChartPanel
        {...common}
        title={`${label} to ${of.label}, per ${step}`}
        unit="ratio"
        rows={rows.map(({ at, first: one, second: two }) => ({ at, ratio: one === null || !two ? null : one / two }))}
        series={[{ name: 'ratio', label: `${label}, by ${of.label}`, color: SERIES.plum }]}
      />
    );
  return (
    <ChartPanel
      {...common}
      title={`${label} beside ${of.label}, per ${step}`}
      unit="events"
      rows={rows}
      series={[
        { name: 'first', label, color: SERIES.viridian },
        { name: 'second', label: `${of.label} (right axis)`, color: SERIES.plum, axis: 'right' },
      ]}
    />
  );
}
