/** What all questions on pages have in common: period, the period before, a filter and groups, kept in the address. */
import { Group, MultiSelect, NativeSelect, SegmentedControl, Switch, TextInput } from '@mantine/core';
import { type NewReport, operations } from '@orchard/contract';
import { useMemo } from 'react';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { FilterBar, type Names } from '../parts/filterBar.js';
import { SaveReport } from '../parts/saveReport.js';
import type { ListState } from '../parts/listState.js';
import { SERIES } from '../theme.js';

const DAY_MS = 86_400_000;
const SPANS = { '7d': 7, '28d': 28, '90d': 90 } as const;
const PERIODS = { '7d': 'week', '28d': 'four-weeks', '90d': 'quarter' } as const;
const GRAIN_MS = 60_000;
/** Groups that are told apart by colour. */
export const TOP = 5;
export const COLOURS = Object.values(SERIES);

const STEP_WORDS = { hour: 'by hour', day: 'by day', week: 'by week', month: 'by month' } as const;
const OWN = 'own';

/** Whole days of the reader's own choice, or so many up to now. */
function periodOf(span: string, own: { from: string; until: string }, now: number): { from: string; until: string } {
  const days = SPANS[(span in SPANS ? span : '28d') as keyof typeof SPANS];
  const iso = (at: number) => new Date(at).toISOString();
  const [first, last] = [Date.parse(`${own.from}T00:00`), Date.parse(`${own.until}T00:00`) + DAY_MS];
  if (span === OWN && first < last) return { from: iso(first), until: iso(Math.min(last, now)) };
  return { from: iso(now - days * DAY_MS), until: iso(now) };
}

export function useQuestion({ initialGroup = '' } = {}) {
  const { params } = useEnvironment();
  const [span, setSpan] = useAddressState('range', '28d');
  const [compare, setCompare] = useAddressState('compare');
  const [filter, setFilter] = useAddressState('filter');
  const [group, setGroup] = useAddressState('by', initialGroup);
  const [from, setFrom] = useAddressState('from');
  const [until, setUntil] = useAddressState('until');
  const [step, setStep] = useAddressState('step');
  const grain = Math.floor(Date.now() / GRAIN_MS);
  const period = useMemo(() => periodOf(span, { from, until }, (grain + 1) * GRAIN_MS), [span, from, until, grain]);
  const days = Math.max(1, Math.round((Date.parse(period.until) - Date.parse(period.from)) / DAY_MS));
  const groups = group ? group.split(',') : [];
  const kinds = useCall(operations.events.list, { params });
  return {
    params,
    span,
    setSpan,
    own: { from, setFrom, until, setUntil },
    step,
    setStep,
    /** By default one that divides the period into at most a hundred. */
    stepped: step in STEP_WORDS ? { step: step as keyof typeof STEP_WORDS } : {},
    days,
    period,
    groups,
    setGroups: (names: string[]) => setGroup(names.join(',') || null),
    filter,
    setFilter,
    isCompared: compare !== '',
    setCompare: (on: boolean) => setCompare(on ? '1' : null),
    compared: compare ? { compare: 'previous' as const } : {},
    filtered: filter ? { filter } : {},
    kinds: kinds.data?.items ?? [],
    builtIn: kinds.data?.builtIn ?? [],
  };
}
export type Question = ReturnType<typeof useQuestion>;

/** The properties that came, with their types. */
export function namesOf({ kinds, builtIn }: Pick<Question, 'kinds' | 'builtIn'>): Names {
  const names = new Map<string, { kind: 'text' | 'number' | 'boolean' | 'time' | 'list'; choices?: string[] }>();
  for (const { properties } of kinds) for (const { name, type } of properties) names.set(name, { kind: type });
  for (const name of builtIn) names.set(name, { kind: 'text' });
  names.set('event', { kind: 'text', choices: kinds.map(({ name }) => name) });
  return names;
}

/** Saves what a page asks, without its period, as a report. */
export function SaveQuestion({ of, source, question }: { of: Question; source: NewReport['source']; question: object }) {
  const { from: _from, until: _until, compare: _compare, ...asked } = question as Record<string, unknown>;
  return (
    <SaveReport
      of={{ source, question: asked as NonNullable<NewReport['question']> }}
      period={PERIODS[of.span as keyof typeof SPANS] ?? 'four-weeks'}
    />
  );
}

/** @param comparable whether the page can show the period before, too @param stepped whether its steps of time can be chosen */
export function PeriodControl({ of, comparable = false, stepped = false }: { of: Question; comparable?: boolean; stepped?: boolean }) {
  return (
    <>
      {stepped && (
        <NativeSelect
          size="xs"
          aria-label="Steps of time"
          value={of.step}
          onChange={({ currentTarget }) => of.setStep(currentTarget.value || null)}
          data={[{ value: '', label: 'steps that fit' }, ...Object.entries(STEP_WORDS).map(([value, label]) => ({ value, label }))]}
        />
      )}
      {comparable && (
        <Switch
          size="xs"
          label="Period before"
          checked={of.isCompared}
          onChange={({ currentTarget }) => of.setCompare(currentTarget.checked)}
        />
      )}
      <SegmentedControl
        size="xs"
        aria-label="Period"
        value={of.span}
        onChange={of.setSpan}
        data={[...Object.entries(SPANS).map(([value, days]) => ({ value, label: `${days} days` })), { value: OWN, label: 'Own' }]}
      />
      {of.span === OWN && (
        <>
          <Day label="First day" value={of.own.from} onChange={of.own.setFrom} max={of.own.until} />
          <Day label="Last day" value={of.own.until} onChange={of.own.setUntil} min={of.own.from} />
        </>
      )}
    </>
  );
}

type DayProps = { label: string; value: string; onChange: (day: string | null) => void; min?: string; max?: string };

function Day({ label, value, onChange, min = '', max = '' }: DayProps) {
  return (
    <TextInput
      size="xs"
      type="date"
      aria-label={label}
      value={value}
      min={min || undefined}
      max={max || undefined}
      onChange={({ currentTarget }) => onChange(currentTarget.value || null)}
    />
  );
}

/** The filter over properties, and what to group by. */
type Narrow = { of: Question; filterable?: boolean; groupable?: boolean; maxGroups?: number };

export function NarrowBar({ of, filterable = true, groupable = true, maxGroups = 3 }: Narrow) {
  const names = namesOf(of);
  const state = { filter: of.filter, setFilter: of.setFilter } as ListState;
  return (
    <Group align="flex-start" gap="sm" wrap="nowrap">
      {filterable && (
        <div style={{ flex: 1 }}>
          <FilterBar state={state} names={names} example="country = 'NO' AND nights > 2" presets={[]} error={null} />
        </div>
      )}
      {groupable && (
        <MultiSelect
          size="sm"
          aria-label="Group by"
          placeholder={of.groups.length === 0 ? 'Group by' : ''}
          data={[{ value: 'person', label: 'first-time or returning' }, ...[...names.keys()].sort()]}
          value={of.groups}
          onChange={of.setGroups}
          maxValues={maxGroups}
          searchable
          clearable
          w={260}
        />
      )}
    </Group>
  );
}

export const groupWords = (group: (string | null)[] | 'others'): string =>
  group === 'others' ? 'others' : group.length === 0 ? 'all' : group.map((value) => value ?? '(none)').join(', ');

export const percent = (share: number | null): string =>
  share === null ? '–' : `${(share * 100).toLocaleString('en-GB', { maximumFractionDigits: 1 })} %`;

/** `42 s`, `3.5 min`, `2 h`. */
export function span(ms: number | null): string {
  if (ms === null) return '–';
  if (ms < 120_000) return `${Math.round(ms / 1000)} s`;
  return ms < 2 * 3_600_000
    ? `${(ms / 60_000).toLocaleString('en-GB', { maximumFractionDigits: 1 })} min`
    : `${(ms / 3_600_000).toLocaleString('en-GB', { maximumFractionDigits: 1 })} h`;
}

/** The length of a calendar step, about: for the chart to know what is unfinished. */
export const stepMsOf = (step: 'hour' | 'day' | 'week' | 'month'): number =>
  ({ hour: 3_600_000, day: DAY_MS, week: 7 * DAY_MS, month: 30 * DAY_MS })[step];
